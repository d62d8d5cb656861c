import type {
  Effect,
  Facts,
  Hold,
  Json,
  KindName,
  Problem,
  Settled,
  Verdict,
} from "@rendel/client/parts";

export type SessionInfo = {
  id: string;
  charter: string;
  version: number;
  title: string;
  status: string;
  seq: number;
  epoch: number;
  participants: number;
  connections: number;
  agreed: number;
  agreed_seq: number;
  differed: number;
  opened: string;
  kept_from: number;
  frozen_except?: string[];
  expression_faults?: string[];
  labels?: { [name: string]: string };
  /** How many seats are free, where it has seats. */
  free_seats?: number;
};

/** Which sessions are looked for. */
export type Sought = { charter?: string; label?: string; freeSeats?: boolean };

export type Here = {
  id: string;
  name: string;
  role: string;
  hue: number;
  connections: number;
  away: boolean;
  presence: { [client: string]: Facts };
  holds: string[];
};

export type Invitation = {
  id: string;
  role: string;
  uses: number;
  used: number;
  until: string;
  withdrawn: boolean;
  code?: string;
  link?: string;
};

export type AuditEntry = {
  ord: number;
  at: string;
  by: string;
  what: string;
  detail: { [name: string]: Json };
};

export type ConnectionInfo = {
  participant: string;
  name: string;
  role: string;
  client: string;
  way: string;
  address: string;
  since: string;
  lag: number;
  lag_ms: number;
  queue: number;
  queue_bytes: number;
  catch_ups: number;
};

export type Difference = { at: string; was?: Json; now?: Json };

/** A coordinate system that all screens share. */
export type Surface = { unit: string; x: [number, number]; y: [number, number] };
/** A declared fact about a participant. */
export type Fact = { surface?: string; refers?: string; anchor?: string; type?: string };

/** A declared field, as it stands in the charter. */
export type Field = {
  kind: KindName;
  merge?: string;
  member?: string;
  min?: number;
  max?: number;
  most?: number;
  initial?: Json;
  schema?: { [name: string]: Json };
  "drop-conflict"?: string;
  "append-only"?: boolean;
  keep?: number;
  refers?: { to: string; "on-drop"?: string };
  surface?: string;
  filled?: string;
  each?: Fields;
  /** Of seats. */
  names?: string[];
  count?: number | boolean;
  needed?: number;
  /** Of chance. */
  shuffles?: string[];
  /** Of a ballot. */
  choices?: string[];
  scale?: { from: number; to: number; step: number; unsure?: boolean };
  sealed?: boolean;
  secret?: boolean;
  roles?: string[];
};
export type Fields = { [name: string]: Field };
export type Charter = {
  charter: string;
  version: number;
  title?: string;
  roles?: {
    [name: string]: {
      edit: (string | { at: string; if: string })[];
      see?: Json[];
      powers?: string[];
    };
  };
  surfaces?: { [name: string]: Surface };
  presence?: { fields?: { [name: string]: Fact } };
  holds?: { kind?: string; at?: string[] };
  queries?: { [name: string]: { with?: { [parameter: string]: Json } } };
  cues?: { [name: string]: { from?: string[]; to?: string; data?: Json } };
  state: Fields;
};

/** Something that a session has announced: a CloudEvent, and its place among all. */
export type Announcement = {
  cursor: number;
  event: {
    id: string;
    type: string;
    time: string;
    data: { session: string; rule?: string; values?: { [name: string]: Json } };
  };
};

/** To whom announcements are sent. */
export type Webhook = {
  id: string;
  url: string;
  types: string[];
  charters: string[];
  ordered: boolean;
};

/** What became of an announcement at a webhook. */
export type Delivery = {
  id: string;
  type: string;
  session: string;
  status: "waiting" | "delivered" | "dead";
  attempts: number;
  why?: string;
};

/** A call that failed with a problem of the service. */
export class Refusal extends Error {
  readonly problem: Problem;
  constructor(problem: Problem) {
    super(problem.detail);
    this.problem = problem;
  }
}

/** The service, as somebody who is signed in: by the console's cookie, or with a token. */
export class Api {
  readonly #headers: { [name: string]: string };
  constructor(who: { secret: string } | { bearer: string }) {
    this.#headers =
      "secret" in who
        ? { "X-Rendel-Console": who.secret }
        : { Authorization: `Bearer ${who.bearer}` };
  }

  sessions(sought: Sought = {}): Promise<{ sessions: SessionInfo[]; after?: string }> {
    const query = new URLSearchParams();
    if (sought.charter) query.set("charter", sought.charter);
    if (sought.label) query.set("label", sought.label);
    if (sought.freeSeats) query.set("free-seats", "true");
    return this.#read(`/v1/sessions${query.size > 0 ? `?${query}` : ""}`);
  }

  session(id: string): Promise<SessionInfo> {
    return this.#read(`/v1/sessions/${encodeURIComponent(id)}`);
  }

  charter(session: string): Promise<Charter> {
    return this.#read(`/v1/sessions/${encodeURIComponent(session)}/charter`);
  }

  connections(session: string): Promise<{ connections: ConnectionInfo[] }> {
    return this.#read(`/v1/sessions/${encodeURIComponent(session)}/connections`);
  }

  participants(session: string): Promise<{ participants: Here[]; holds: Hold[] }> {
    return this.#read(`/v1/sessions/${encodeURIComponent(session)}/participants`);
  }

  async remove(session: string, participant: string, seconds: number): Promise<void> {
    const path = `/v1/sessions/${encodeURIComponent(session)}/participants/${encodeURIComponent(participant)}`;
    await this.#send(`${path}?seconds=${seconds}`, { method: "DELETE" });
  }

  async steer(
    session: string,
    to: "freeze" | "thaw" | "reset" | "end",
    body: Json = {},
  ): Promise<void> {
    const path = `/v1/sessions/${encodeURIComponent(session)}/${to}`;
    await this.#send(path, { method: "POST", body: JSON.stringify(body) });
  }

  invitations(session: string): Promise<{ invitations: Invitation[] }> {
    return this.#read(`/v1/sessions/${encodeURIComponent(session)}/invitations`);
  }

  invite(
    session: string,
    asked: { role: string; uses: number; expires_in: number },
  ): Promise<Invitation> {
    const path = `/v1/sessions/${encodeURIComponent(session)}/invitations`;
    return this.#read(path, { method: "POST", body: JSON.stringify(asked) });
  }

  async withdraw(session: string, invitation: string): Promise<void> {
    await this.#send(`/v1/sessions/${encodeURIComponent(session)}/invitations/${invitation}`, {
      method: "DELETE",
    });
  }

  audit(session: string): Promise<{ entries: AuditEntry[] }> {
    return this.#read(`/v1/sessions/${encodeURIComponent(session)}/audit?most=200`);
  }

  /** What was announced last, the newest first; only of one type where it is given. */
  async announcements(type: string): Promise<Announcement[]> {
    type List = { announcements: Announcement[]; next: number };
    const of = type === "" ? "" : `&types=${encodeURIComponent(type)}`;
    const { next } = await this.#read<List>("/v1/announcements?after=now");
    const after = type === "" ? Math.max(next - 200, 0) : 0;
    const list = await this.#read<List>(`/v1/announcements?after=${after}&most=1000${of}`);
    return list.announcements.reverse().slice(0, 200);
  }

  async webhooks(): Promise<Webhook[]> {
    return (await this.#read<{ webhooks: Webhook[] }>("/v1/webhooks")).webhooks;
  }

  async deliveries(webhook: string): Promise<Delivery[]> {
    const path = `/v1/webhooks/${webhook}/deliveries`;
    return (await this.#read<{ deliveries: Delivery[] }>(path)).deliveries;
  }

  /** Sends all to a webhook again that are not tried any more. */
  async resend(webhook: string): Promise<void> {
    await this.#send(`/v1/webhooks/${webhook}/resend`, { method: "POST", body: "{}" });
  }

  /** What a role is shown of the state. */
  async seenBy(session: string, role: string): Promise<{ seq: number; state: Json }> {
    const response = await this.#send(
      `/v1/sessions/${encodeURIComponent(session)}/state?as=${role}`,
    );
    const seq = Number((response.headers.get("etag") ?? "").replaceAll(/[^0-9]/g, ""));
    return { seq, state: (await response.json()) as Json };
  }

  async signOut(): Promise<void> {
    await this.#send("/v1/console/sign-out", { method: "POST" });
  }

  diff(session: string, from: number, to: number): Promise<{ differences: Difference[] }> {
    return this.#read(`/v1/sessions/${encodeURIComponent(session)}/diff?from=${from}&to=${to}`);
  }

  /** How the value at a path came about. */
  why(session: string, path: string): Promise<Why> {
    const at = encodeURIComponent(path);
    return this.#read(`/v1/sessions/${encodeURIComponent(session)}/why?path=${at}`);
  }

  /** Takes a session, or what is at a path, back; nothing where nothing was to be changed. */
  async revert(session: string, to: number, at?: string): Promise<Settled | undefined> {
    const path = `/v1/sessions/${encodeURIComponent(session)}/revert`;
    const response = await this.#send(path, {
      method: "POST",
      body: JSON.stringify({ to, ...(at === undefined ? {} : { at }) }),
    });
    return response.status === 204 ? undefined : ((await response.json()) as Settled);
  }

  async journal(session: string, from: number): Promise<Settled[]> {
    const response = await this.#send(
      `/v1/sessions/${encodeURIComponent(session)}/journal?from=${from}`,
    );
    const lines = (await response.text()).split("\n");
    return lines.filter((line) => line !== "").map((line) => JSON.parse(line) as Settled);
  }

  /** What a newcomer gets, in a role where one is given: the present state and its `seq`. */
  async state(session: string, role?: string): Promise<{ seq: number; state: Json }> {
    const as = role === undefined ? "" : `?as=${encodeURIComponent(role)}`;
    const response = await this.#send(`/v1/sessions/${encodeURIComponent(session)}/state${as}`);
    const seq = Number((response.headers.get("etag") ?? "").replaceAll(/[^0-9]/g, ""));
    return { seq, state: (await response.json()) as Json };
  }

  async token(asked: {
    session: string;
    sub: string;
    name: string;
    role: string;
  }): Promise<string> {
    const body = JSON.stringify({ ...asked, expires_in: 12 * 3600 });
    const answer = await this.#read<{ token: string }>("/v1/tokens", { method: "POST", body });
    return answer.token;
  }

  async #read<T>(path: string, init: RequestInit = {}): Promise<T> {
    return (await (await this.#send(path, init)).json()) as T;
  }

  #send(path: string, init: RequestInit = {}): Promise<Response> {
    return send(path, { ...init, headers: this.#headers });
  }
}

async function send(path: string, init: RequestInit): Promise<Response> {
  let response: Response;
  try {
    response = await fetch(path, init);
  } catch {
    throw new Error("The service cannot be reached. Is it running?");
  }
  if (response.ok) return response;
  const problem = (await response.json().catch(() => undefined)) as Problem | undefined;
  throw problem === undefined
    ? new Error(`The service answered ${response.status}.`)
    : new Refusal(problem);
}

/** The page's secret, where this browser is signed in to the console. */
export async function consoleSeat(): Promise<string | undefined> {
  const seat = (await (await send("/v1/console", {})).json()) as { secret?: string };
  return seat.secret;
}

/** Signs this browser in to the console; gives the page's secret. */
export async function signInWithKey(key: string): Promise<string> {
  const response = await send("/v1/console/sign-in", {
    method: "POST",
    body: JSON.stringify({ key }),
  });
  return ((await response.json()) as { secret: string }).secret;
}

/** Accepts an invitation; gives the token to enter with. */
export async function acceptInvitation(
  code: string,
  name: string,
): Promise<{ session: string; token: string }> {
  const body = JSON.stringify(name === "" ? { code } : { code, name });
  const response = await send("/v1/invitations/accepted", { method: "POST", body });
  return (await response.json()) as { session: string; token: string };
}

/** The address of the service that served this page. */
export const SERVER = window.location.origin;

/** How a value came about. */
export type Why = {
  at: string;
  seq: number;
  value: Json;
  made: {
    seq: number;
    by: string;
    at: number;
    effects: Effect[];
    verdicts?: Verdict[];
    rule?: string;
    gesture?: string;
    note?: string;
    undoes?: NonNullable<Settled["undoes"]>;
    undone_by?: number;
  }[];
  is_whole: boolean;
  lost?: { seq: number; by: string; at: number; verdict: Verdict }[];
  parts?: { at: string; seq: number }[];
  runs?: { text: string; seq?: number; by?: string }[];
};
