/** The kinds of fields, as the core lists them. Made by its tests. */
export const KINDS = {
  counter: { takes: ["add"], inside: [] },
  list: { takes: ["insert"], inside: ["move", "remove"] },
  map: { takes: ["put"], inside: ["drop"] },
  register: { takes: ["set", "clear"], inside: [] },
  set: { takes: ["include", "exclude"], inside: [] },
  text: { takes: ["splice"], inside: [] },
} as const;

export type KindName = keyof typeof KINDS;
