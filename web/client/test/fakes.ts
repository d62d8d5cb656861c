import { afterEach, beforeEach, vi } from "vitest";
import {
  Connection,
  type ConnectionEvents,
  type FromParticipant,
  type FromService,
  type TokenSource,
  type Welcome,
} from "../src/parts.ts";

/** In each test of a file the sockets are the test's, and so is the time. */
export function fakeSockets() {
  beforeEach(() => {
    vi.useFakeTimers();
    FakeSocket.all = [];
    vi.stubGlobal("WebSocket", FakeSocket);
  });
  afterEach(() => {
    vi.restoreAllMocks();
    vi.useRealTimers();
    vi.unstubAllGlobals();
  });
}

/** A socket whose other end is the test. */
export class FakeSocket {
  static readonly OPEN = 1;
  static all: FakeSocket[] = [];
  readyState = 0;
  sent: FromParticipant[] = [];
  onopen?: () => void;
  onmessage?: (message: { data: string }) => void;
  onclose?: () => void;

  constructor(
    readonly url: string,
    readonly protocol: string,
  ) {
    FakeSocket.all.push(this);
  }

  send(text: string) {
    this.sent.push(JSON.parse(text));
  }

  close() {
    this.readyState = 3;
  }

  open() {
    this.readyState = FakeSocket.OPEN;
    this.onopen?.();
  }

  receive(frame: FromService) {
    this.onmessage?.({ data: JSON.stringify(frame) });
  }

  lose() {
    this.readyState = 3;
    this.onclose?.();
  }
}

export const CLIENT = "018f0000-0000-7000-8000-000000000001";

export function welcome(seq: number, more: Partial<Welcome>): FromService {
  return {
    type: "welcome",
    you: { id: "oda", name: "Oda", role: "picker", hue: 1, client: CLIENT },
    session: { id: "gate", charter: "headcount", version: 1, status: "open" },
    epoch: 1,
    seq,
    roster: [],
    limits: { frame: 65536, edits: 256, proposals_per_second: 50, burst: 1_000 },
    outcomes: [],
    time: 0,
    ...more,
  };
}

export function last(): FakeSocket {
  const socket = FakeSocket.all.at(-1);
  if (socket === undefined) throw new Error("no socket was opened");
  return socket;
}

/** A connection that has begun to enter; without a token it is a guest's. */
export function open(events: ConnectionEvents = {}, token?: TokenSource): Connection {
  const connection = new Connection({
    server: "http://gate.example",
    session: "gate",
    ...(token === undefined ? {} : { token }),
    client: CLIENT,
    events,
  });
  connection.start();
  return connection;
}
