/** A session in React: components draw again when what they read changes, and only then. */

import {
  type AnyTyping,
  connect,
  type Hold,
  type Json,
  type Options,
  type Participant,
  type PathOf,
  type Problem,
  type Proposal,
  type Session,
  type Standing,
  type StateOf,
  type Typing,
  type ValueAt,
} from "@rendel/client";
import {
  createContext,
  createElement,
  type ReactNode,
  use,
  useCallback,
  useContext,
  useEffect,
  useMemo,
  useState,
  useSyncExternalStore,
} from "react";

/** What is shown before there is a session, such as the state that the server read over HTTP. */
type Beginning = Json | undefined;

const Around = createContext<{ session: Session | undefined; first: Beginning } | undefined>(
  undefined,
);

type Given<T extends Typing> = { children: ReactNode; first?: Json } & (
  | { session: Session<T> }
  | { session?: undefined; options: Options }
);

/**
 * Gives a session to what is in it: one that is there already, or one that is entered with
 * `options` while this is shown. `first` is a state to begin with: what a server has read is drawn
 * there and at first in the browser.
 */
export function Inside<T extends Typing = AnyTyping>(given: Given<T>): ReactNode {
  const { children, first } = given;
  const options = given.session === undefined ? given.options : undefined;
  const own = useEntered(options);
  const session = (given.session as unknown as Session | undefined) ?? own;
  const around = useMemo(() => ({ session, first }), [session, first]);
  return createElement(Around.Provider, { value: around }, children);
}

/** Enters once it is shown, and leaves when it is not, or shown with another session. */
function useEntered(options: Options | undefined): Session | undefined {
  const [session, setSession] = useState<Session>();
  const which = options && `${options.server ?? ""} ${options.session}`;
  // biome-ignore lint/correctness/useExhaustiveDependencies: what gets a token may be made anew each time
  useEffect(() => {
    if (options === undefined) return;
    const entered = connect(options);
    setSession(entered);
    return () => {
      entered.leave();
      setSession(undefined);
    };
  }, [which]);
  return session;
}

function useAround(): { session: Session | undefined; first: Beginning } {
  const around = useContext(Around);
  if (around === undefined)
    throw new Error("There is no session here: put <Inside session={…}> around it.");
  return around;
}

/** The session around, `undefined` on a server and until it is entered. */
export function useSession<T extends Typing = AnyTyping>(): Session<T> | undefined {
  return useAround().session as unknown as Session<T> | undefined;
}

const nothing = () => () => {};

/** What is at a path: drawn again when that changes. `undefined` until it is known. */
export function useAt<V = Json>(path: string): V | undefined {
  const { session, first } = useAround();
  const watch = useCallback(
    (heard: () => void) => session?.watch(path, heard) ?? nothing(),
    [session, path],
  );
  const now = () => (session?.confirmed === undefined ? within(first, path) : session.at(path));
  return useSyncExternalStore(watch, now, () => within(first, path)) as V | undefined;
}

/** The whole state: drawn again at each change. */
export function useWhole<T extends Typing = AnyTyping>(): StateOf<T> | undefined {
  return useAt<StateOf<T>>("");
}

/** Waits for the state to be known, for a `<Suspense>` around it. */
export function useKnown<V = Json>(path: string): V {
  const { session, first } = useAround();
  const known = useAt<V>(path);
  const isKnown = first !== undefined || session?.confirmed !== undefined;
  use<unknown>(isKnown ? NOW : (session?.ready ?? NEVER));
  return known as V;
}

const NEVER = new Promise<never>(() => {});
/** One that React need not wait a moment for. */
const NOW = Object.assign(Promise.resolve(), { status: "fulfilled" as const, value: undefined });

function useTold<V>(names: ("standing" | "people")[], read: (session: Session) => V, before: V): V {
  const { session } = useAround();
  const key = names.join();
  const listen = useCallback(
    (heard: () => void) => {
      const ends = key.split(",").map((name) => session?.listen(name as "people", heard));
      return () => {
        for (const end of ends) end?.();
      };
    },
    [session, key],
  );
  const now = () => (session === undefined ? before : read(session));
  return useSyncExternalStore(listen, now, () => before);
}

/** Where the connection stands: `present`, `away` and others. */
export function useStanding(): Standing {
  return useTold(["standing"], (session) => session.standing, "waiting");
}

/** Who is here. */
export function usePeople(): readonly Participant[] {
  return useTold(["people"], (session) => session.people, NOBODY);
}

const NOBODY: readonly Participant[] = [];

/** How many are here, those included who are not named. */
export function useCount(): number {
  return useTold(["people"], (session) => session.count, 0);
}

/** Who holds a path, if anybody does. */
export function useHold(path: string): Hold | undefined {
  return useTold(["people"], (session) => session.holds.get(path), undefined);
}

/** How many of one's own proposals have no answer yet. */
export function useUnanswered(): number {
  return useTold(["standing"], (session) => session.pending.length, 0);
}

/** The last problem, and what takes it away. */
export function useProblem(): [Problem | undefined, () => void] {
  const { session } = useAround();
  const [problem, setProblem] = useState<Problem>();
  useEffect(() => session?.listen("problem", setProblem), [session]);
  return [problem, useCallback(() => setProblem(undefined), [])];
}

/** Proposes edits; the same function as long as the session is the same. */
export function usePropose(): Session["propose"] {
  const { session } = useAround();
  return useCallback(
    (...asked: Parameters<Session["propose"]>): Proposal => {
      if (session === undefined) throw new Error("The session is not entered yet.");
      return session.propose(...asked);
    },
    [session],
  );
}

/** The hooks that read and edit, knowing what a charter declares: see `hooksOf`. */
export type Hooks<T extends Typing> = {
  useAt: <const P extends string>(path: P & PathOf<T, P>) => ValueAt<T, P> | undefined;
  useKnown: <const P extends string>(path: P & PathOf<T, P>) => ValueAt<T, P>;
  useWhole: () => StateOf<T> | undefined;
  useSession: () => Session<T> | undefined;
  usePropose: () => Session<T>["propose"];
};

const HOOKS = { useAt, useKnown, useWhole, useSession, usePropose };

/**
 * The same hooks with the types that `rendel charter types` writes: a misspelt path does not compile,
 * and what is there has its type. Call it once, beside the imports.
 */
export function hooksOf<T extends Typing>(): Hooks<T> {
  return HOOKS as unknown as Hooks<T>;
}

/** What a plain state has at a path. Elements of lists go by their ids. */
function within(state: Beginning, path: string): Json | undefined {
  const tokens = path === "" ? [] : path.slice(1).split("/");
  return tokens.reduce<Json | undefined>((value, token) => {
    const name = token.replaceAll("~1", "/").replaceAll("~0", "~");
    if (Array.isArray(value)) {
      const isIt = (one: Json) => (one as { id?: Json } | null)?.id === name;
      return (value.find(isIt) as { value?: Json } | undefined)?.value;
    }
    if (value === null || typeof value !== "object") return undefined;
    return Object.hasOwn(value, name) ? value[name] : undefined;
  }, state);
}
