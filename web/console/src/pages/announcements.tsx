import type { Json } from "@rendel/client/parts";
import { useCallback, useState } from "react";
import { Link } from "wouter";
import type { Announcement, Delivery, Webhook } from "../api.ts";
import { useSigned } from "../auth.tsx";
import {
  Badge,
  Button,
  Empty,
  Input,
  type Meaning,
  Mishap,
  Panel,
  Select,
  Waiting,
} from "../parts/ui.tsx";
import { useRead } from "../parts/use-read.ts";
import { clock, counted } from "../session/words.ts";

/** What sessions have announced to other systems, and what became of it there. */
export function AnnouncementsPage() {
  return (
    <div className="mx-auto flex w-full max-w-7xl flex-col gap-4 px-4 py-6">
      <h1 className="text-xl font-semibold tracking-tight">Announcements</h1>
      <div className="grid items-start gap-4 lg:grid-cols-[3fr_2fr]">
        <Feed />
        <Webhooks />
      </div>
    </div>
  );
}

function Feed() {
  const { api } = useSigned();
  const [kind, setKind] = useState("");
  const wanted = kind.trim();
  const { value, error, again } = useRead(
    useCallback(() => api.announcements(wanted), [api, wanted]),
    2_000,
  );
  return (
    <Panel
      title="Announced"
      aside={
        <Input
          className="w-40"
          aria-label="Only this type"
          placeholder="type"
          value={kind}
          onChange={(event) => setKind(event.target.value)}
        />
      }
    >
      {error !== undefined && <Mishap retry={again}>{error.message}</Mishap>}
      {value === undefined && error === undefined && <Waiting>Waiting for the list …</Waiting>}
      {value?.length === 0 && (
        <Empty title="Nothing was announced lately">
          A charter says what is: <code className="font-mono">announce = "barrel.sold"</code> in a
          rule, or <code className="font-mono">[announcements]</code>.
        </Empty>
      )}
      {value !== undefined && value.length > 0 && (
        <ol className="max-h-[70dvh] overflow-y-auto">
          {value.map((one) => (
            <Told key={one.cursor} one={one} />
          ))}
        </ol>
      )}
    </Panel>
  );
}

function Told({ one: { cursor, event } }: { one: Announcement }) {
  const { session, values = {} } = event.data;
  return (
    <li className="flex flex-col gap-0.5 border-b border-rule px-4 py-2 text-sm last:border-0">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <span className="w-10 shrink-0 font-mono text-xs text-faint tabular-nums">{cursor}</span>
        <span className="font-medium">{event.type}</span>
        <Link href={`/sessions/${session}`} className="text-soft hover:underline">
          {session}
        </Link>
        <time className="ml-auto text-xs text-faint tabular-nums">
          {event.time.replace("T", " ").replace(/\.\d+Z$/, "")}
        </time>
      </div>
      <p className="pl-13 font-mono text-xs break-words text-soft">
        {Object.entries(values)
          .map(([name, of]) => `${name} ${inWords(of)}`)
          .join("  ·  ")}
      </p>
    </li>
  );
}

/** A value as it reads in a line; what must be a time as that. */
function inWords(value: Json): string {
  if (typeof value === "string") return value;
  return typeof value === "number" && value > 1e12 ? clock(value) : JSON.stringify(value);
}

function Webhooks() {
  const { api } = useSigned();
  const { value, error, again } = useRead(
    useCallback(() => api.webhooks(), [api]),
    5_000,
  );
  const [chosen, setChosen] = useState<string>();
  const webhook = value?.find(({ id }) => id === chosen) ?? value?.[0];
  return (
    <Panel
      title="Webhooks"
      aside={value === undefined ? undefined : counted(value.length, "webhook")}
    >
      {error !== undefined && <Mishap retry={again}>{error.message}</Mishap>}
      {value === undefined && error === undefined && <Waiting>Waiting for the list …</Waiting>}
      {value?.length === 0 && (
        <Empty title="Nothing is sent anywhere">
          Make a webhook: <code className="font-mono">rendel webhook make URL</code>
        </Empty>
      )}
      {webhook !== undefined && value !== undefined && (
        <div className="flex flex-col gap-3 pt-3">
          <div className="flex flex-col gap-2 px-4">
            {value.length > 1 && (
              <Select
                label="Webhook"
                value={webhook.id}
                options={value.map(({ id, url }) => ({ value: id, text: url }))}
                onChange={setChosen}
              />
            )}
            <About webhook={webhook} />
          </div>
          <Deliveries key={webhook.id} webhook={webhook} />
        </div>
      )}
    </Panel>
  );
}

function About({ webhook: { url, types, charters, ordered } }: { webhook: Webhook }) {
  const rows = [
    ["to", url],
    ["types", types.length === 0 ? "all" : types.join(", ")],
    ["charters", charters.length === 0 ? "all" : charters.join(", ")],
    ["order", ordered ? "that of each session" : "any"],
  ];
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 text-sm">
      {rows.map(([name, of]) => (
        <div key={name} className="contents">
          <dt className="text-faint">{name}</dt>
          <dd className="min-w-0 break-words">{of}</dd>
        </div>
      ))}
    </dl>
  );
}

const MEANINGS: Record<Delivery["status"], Meaning> = {
  delivered: "leaf",
  waiting: "amber",
  dead: "brick",
};

function Deliveries({ webhook }: { webhook: Webhook }) {
  const { api } = useSigned();
  const { value, error, again } = useRead(
    useCallback(() => api.deliveries(webhook.id), [api, webhook.id]),
    2_000,
  );
  const [failed, setFailed] = useState<string>();
  const dead = value?.some(({ status }) => status === "dead") ?? false;
  const resend = () =>
    api.resend(webhook.id).then(again, (reason: Error) => setFailed(reason.message));
  return (
    <>
      {(error ?? failed) !== undefined && <Mishap retry={again}>{error?.message ?? failed}</Mishap>}
      {value?.length === 0 && (
        <p className="px-4 text-sm text-faint">Nothing was sent to it yet.</p>
      )}
      {dead && (
        <div className="px-4">
          <Button onClick={() => void resend()}>Send what is dead again</Button>
        </div>
      )}
      {value !== undefined && value.length > 0 && (
        <ol className="max-h-[50dvh] overflow-y-auto border-t border-rule">
          {value.map((one) => (
            <li
              key={one.id}
              className="flex flex-wrap items-baseline gap-x-3 gap-y-0.5 border-b border-rule px-4 py-1.5 text-sm last:border-0"
            >
              <Badge meaning={MEANINGS[one.status]}>{one.status}</Badge>
              <span className="font-medium">{one.type}</span>
              <span className="text-soft">{one.session}</span>
              <span className="ml-auto text-xs text-faint tabular-nums">
                {counted(one.attempts, "attempt")}
              </span>
              {one.why !== undefined && (
                <span className="basis-full text-xs text-brick">{one.why}</span>
              )}
            </li>
          ))}
        </ol>
      )}
    </>
  );
}
