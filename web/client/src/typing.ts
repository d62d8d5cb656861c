import type { Edit, Json } from "./frame.ts";

/** A register whose values are of a type. */
export type Register<V = Json> = { kind: "register"; value: V };
/** A register with `merge = "all"`: values that were set at the same time stand side by side. */
export type Beside<V = Json> = { kind: "register"; value: V; beside: true };
export type Counter = { kind: "counter" };
export type Text = { kind: "text" };
/** What nobody sets: seats, a turn, chance, a total, a ballot. */
export type Kept<V = Json> = { kind: "kept"; value: V };
export type SetOf<V = Json> = { kind: "set"; value: V };
/** A map of records, whose fields are given. */
export type MapOf<E> = { kind: "map"; each: E };
/** A list of records, whose fields are given, or of plain values. */
export type ListOf<E> = { kind: "list"; each: E };

/** What a charter declares, as types. `rendel charter types FILE --for typescript` writes it. */
export type Typing = {
  fields: object;
  role: string;
  presence: object;
  cues: object;
  edits: Edit;
};

/** What nothing was said of. */
export type Undeclared = { readonly undeclared: true };

/** Where nothing is declared anything goes, and the service decides. */
export type AnyTyping = {
  fields: Undeclared;
  role: string;
  presence: { [fact: string]: Json };
  cues: { [cue: string]: Json };
  edits: Edit;
};

/** The fields of one kind by their paths, with what the kind is of. */
type OfKind<T extends Typing, Shape, Member extends string> = T["fields"] extends Undeclared
  ? { [path: string]: Undeclared }
  : {
      [N in keyof T["fields"] & string as T["fields"][N] extends Shape
        ? `/${N}`
        : never]: Member extends keyof T["fields"][N] ? T["fields"][N][Member] : never;
    };
export type Maps<T extends Typing> = OfKind<T, { kind: "map" }, "each">;
export type Lists<T extends Typing> = OfKind<T, { kind: "list" }, "each">;
export type Sets<T extends Typing> = OfKind<T, { kind: "set" }, "value">;
export type Registers<T extends Typing> = OfKind<T, { kind: "register" }, "value">;
export type Counters<T extends Typing> = OfKind<T, { kind: "counter" }, "kind">;
export type Texts<T extends Typing> = OfKind<T, { kind: "text" }, "kind">;

/** What a field is in the state. */
export type ValueOf<F> = F extends { beside: true; value: infer V }
  ? readonly V[]
  : F extends { kind: "register"; value: infer V }
    ? V | null
    : F extends { kind: "counter" }
      ? number
      : F extends { kind: "text" }
        ? string
        : F extends { kind: "set"; value: infer V }
          ? readonly V[]
          : F extends { kind: "kept"; value: infer V }
            ? V
            : F extends { kind: "map"; each: infer E }
              ? { readonly [id: string]: RecordOf<E> }
              : F extends { kind: "list"; each: infer E }
                ? readonly { readonly id: string; readonly value: ElementOf<E> }[]
                : never;
/** A record in the state. */
export type RecordOf<E> = E extends Undeclared
  ? { readonly [field: string]: Json }
  : { readonly [N in keyof E]: ValueOf<E[N]> };
/** An element of a list: a record, or a plain value. */
export type ElementOf<E> = E extends Undeclared
  ? Json
  : E extends { [name: string]: { kind: string } }
    ? RecordOf<E>
    : E;
/** A value of a register or set. */
export type Plain<V> = V extends Undeclared ? Json : V;
/** The whole state. */
export type StateOf<T extends Typing> = RecordOf<T["fields"]>;

type Inside<E, Path extends string> = Path extends `/${infer Name}/${infer Rest}`
  ? Name extends keyof E
    ? Below<E[Name], Rest>
    : never
  : Path extends `/${infer Name}`
    ? Name extends keyof E
      ? ValueOf<E[Name]>
      : never
    : never;
type Below<F, Rest extends string> = F extends { kind: "map" | "list"; each: infer E }
  ? Rest extends `${string}/${infer Inner}`
    ? Inside<E, `/${Inner}`>
    : F extends { kind: "map" }
      ? RecordOf<E>
      : ElementOf<E>
  : never;
/** What is at a path such as `/items/${id}/what`; `never` where the charter has no such path. */
export type ValueAt<T extends Typing, Path extends string> = T["fields"] extends Undeclared
  ? Json
  : Path extends ""
    ? StateOf<T>
    : Inside<T["fields"], Path>;
/** A path that the charter has; `never` is any other. */
export type PathOf<T extends Typing, Path extends string> = [ValueAt<T, Path>] extends [never]
  ? never
  : Path;
