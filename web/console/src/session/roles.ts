import type { Charter } from "../api.ts";

/** The roles of a charter; one that declares none has the role `participant`. */
export function roleNames(charter: Charter): string[] {
  return Object.keys(charter.roles ?? { participant: {} });
}

/** The role that may edit most, which is the most useful one to look around with. */
export function widestRole(charter: Charter): string {
  const roles = Object.entries(charter.roles ?? { participant: { edit: ["/**"] } });
  const everywhere = roles.find(([, role]) => role.edit.some((one) => one === "/**"));
  return (
    (everywhere ?? roles.find(([, role]) => role.edit.length > 0) ?? roles[0])?.[0] ?? "participant"
  );
}
