import { useCallback, useState } from "react";
import { Link } from "wouter";
import type { Charter } from "../api.ts";
import { useSigned } from "../auth.tsx";
import { Badge, Button, Empty, Mishap, Panel, Select } from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { roleNames } from "./roles.ts";
import type { Seat } from "./use-participant.ts";

/**
 * What the backend may do with a session: freeze it, to a role or for all, and invite people to it.
 */
export function Steering({
  session,
  charter,
  seat,
}: {
  session: string;
  charter: Charter;
  seat: Seat;
}) {
  const { api } = useSigned();
  const roles = roleNames(charter);
  const [except, setExcept] = useState("nobody");
  const [fault, setFault] = useState<string>();
  const isFrozen = seat.session === "frozen";
  const steer = async (to: "freeze" | "thaw") => {
    try {
      await api.steer(
        session,
        to,
        to === "freeze" && except !== "nobody" ? { except: [except] } : {},
      );
      setFault(undefined);
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
    }
  };
  const choices = [
    { value: "nobody", text: "for everyone" },
    ...roles.map((role) => ({ value: role, text: `for all but ${role}` })),
  ];
  return (
    <Panel
      title="Steering"
      aside={
        <Link href={`/sessions/${session}/audit`} className="text-leaf underline">
          who did what
        </Link>
      }
    >
      <div className="flex flex-wrap items-center gap-2 border-b border-rule px-4 py-3">
        <Badge meaning={isFrozen ? "amber" : "leaf"}>{seat.session ?? "…"}</Badge>
        {isFrozen ? (
          <Button onClick={() => steer("thaw")}>Thaw</Button>
        ) : (
          <>
            <Button onClick={() => steer("freeze")}>Freeze</Button>
            <Select
              label="Whom the freeze leaves out"
              value={except}
              options={choices}
              onChange={setExcept}
            />
          </>
        )}
      </div>
      {fault !== undefined && <Mishap>{fault}</Mishap>}
      <Invitations session={session} roles={roles} />
    </Panel>
  );
}

const USES = [1, 5, 50].map((uses) => ({
  value: String(uses),
  text: uses === 1 ? "one use" : `${uses} uses`,
}));

function Invitations({ session, roles }: { session: string; roles: string[] }) {
  const { api } = useSigned();
  const { value, error, again } = useRead(
    useCallback(() => api.invitations(session), [api, session]),
  );
  const [role, setRole] = useState(roles.at(-1) ?? "participant");
  const [uses, setUses] = useState("1");
  const [link, setLink] = useState<string>();
  const [fault, setFault] = useState<string>();
  const attempt = async (what: () => Promise<void>) => {
    try {
      await what();
      setFault(undefined);
      again();
    } catch (error) {
      setFault(error instanceof Error ? error.message : String(error));
    }
  };
  const invite = () =>
    attempt(async () => {
      const made = await api.invite(session, { role, uses: Number(uses), expires_in: 86_400 });
      setLink(`${window.location.origin}${made.link ?? ""}`);
    });
  const list = value?.invitations.filter((one) => !one.withdrawn) ?? [];
  return (
    <section aria-label="Invitations">
      <div className="flex flex-wrap items-center gap-2 px-4 pt-3">
        <Select
          label="Role of who is invited"
          value={role}
          options={roles.map((one) => ({ value: one, text: `as ${one}` }))}
          onChange={setRole}
        />
        <Select label="Uses of the invitation" value={uses} options={USES} onChange={setUses} />
        <Button onClick={invite}>Invite</Button>
      </div>
      {link !== undefined && (
        <p className="mx-4 mt-2 rounded-small bg-leaf-wash px-3 py-2 text-xs text-leaf">
          Good for a day, and told once:{" "}
          <span className="font-mono break-all select-all">{link}</span>
        </p>
      )}
      {fault !== undefined && <Mishap>{fault}</Mishap>}
      {error !== undefined && <Mishap retry={again}>{error.message}</Mishap>}
      {value !== undefined && list.length === 0 && (
        <Empty title="Nobody is invited">A link brings somebody in who has no account.</Empty>
      )}
      <ul className="py-2 text-sm">
        {list.map((one) => (
          <li
            key={one.id}
            className="grid grid-cols-[1fr_auto_auto] items-center gap-3 px-4 py-0.5"
          >
            <span className="truncate">
              as {one.role}{" "}
              <span className="text-xs text-faint">
                until {one.until.slice(5, 16).replace("T", " ")}
              </span>
            </span>
            <span className="num text-xs text-faint" title="used, of how many">
              {one.used} of {one.uses}
            </span>
            <Button
              tone="danger"
              className="h-6 px-1.5 text-xs"
              aria-label={`Take back the invitation as ${one.role}`}
              onClick={() => attempt(() => api.withdraw(session, one.id))}
            >
              Take back
            </Button>
          </li>
        ))}
      </ul>
    </section>
  );
}
