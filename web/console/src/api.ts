import type { Json, Problem, Settled } from "@rendel/client";

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

/** A declared field, as it stands in the charter. */
export type Field = {
  kind: string;
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
  each?: Fields;
};
export type Fields = { [name: string]: Field };
export type Charter = {
  charter: string;
  version: number;
  title?: string;
  roles?: { [name: string]: { edit: string[] } };
  state: Fields;
};

/** A call that failed with a problem of the service. */
export class Refusal extends Error {
  readonly problem: Problem;
  constructor(problem: Problem) {
    super(problem.detail);
    this.problem = problem;
  }
}

/** The service, with the key or token that was signed in with. */
export class Api {
  readonly bearer: string;
  constructor(bearer: string) {
    this.bearer = bearer;
  }

  sessions(): Promise<{ sessions: SessionInfo[]; after?: string }> {
    return this.#read("/v1/sessions");
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

  diff(session: string, from: number, to: number): Promise<{ differences: Difference[] }> {
    return this.#read(`/v1/sessions/${encodeURIComponent(session)}/diff?from=${from}&to=${to}`);
  }

  async journal(session: string, from: number): Promise<Settled[]> {
    const response = await this.#send(`/v1/sessions/${encodeURIComponent(session)}/journal?from=${from}`);
    const lines = (await response.text()).split("\n");
    return lines.filter((line) => line !== "").map((line) => JSON.parse(line) as Settled);
  }

  /** What a newcomer gets: the present state and its `seq`. */
  async state(session: string): Promise<{ seq: number; state: Json }> {
    const response = await this.#send(`/v1/sessions/${encodeURIComponent(session)}/state`);
    const seq = Number((response.headers.get("etag") ?? "").replaceAll(/[^0-9]/g, ""));
    return { seq, state: (await response.json()) as Json };
  }

  async token(asked: { session: string; sub: string; name: string; role: string }): Promise<string> {
    const body = JSON.stringify({ ...asked, expires_in: 12 * 3600 });
    const answer = await this.#read<{ token: string }>("/v1/tokens", { method: "POST", body });
    return answer.token;
  }

  async #read<T>(path: string, init: RequestInit = {}): Promise<T> {
    return (await (await this.#send(path, init)).json()) as T;
  }

  async #send(path: string, init: RequestInit = {}): Promise<Response> {
    const headers = { Authorization: `Bearer ${this.bearer}` };
    let response: Response;
    try {
      response = await fetch(path, { ...init, headers });
    } catch {
      throw new Error("The service cannot be reached. Is it running?");
    }
    if (response.ok) return response;
    const problem = (await response.json().catch(() => undefined)) as Problem | undefined;
    throw problem === undefined ? new Error(`The service answered ${response.status}.`) : new Refusal(problem);
  }
}

/** The address of the service that served this page. */
export const SERVER = window.location.origin;
