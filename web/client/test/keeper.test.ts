import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { claim, type Kept } from "../src/parts.ts";

type Request = { result?: unknown; onsuccess?: () => void; onupgradeneeded?: () => void };

/** What of IndexedDB one store needs, with writes that take their time. */
function fakeDatabase(kept: Map<string, unknown>) {
  const store = {
    put: (value: unknown, key: string[]) => kept.set(key.join(), structuredClone(value)),
    delete: (key: string[]) => kept.delete(key.join()),
    getAll: (range: { from: string[] }) =>
      [...kept].filter(([key]) => key.startsWith(`${range.from[0]},`)).map(([, value]) => value),
  };
  const later = (act: () => void, wait = 10) => setTimeout(act, wait);
  const transaction = (_store: string, mode: string) => {
    const transaction: { oncomplete?: () => void; objectStore: () => unknown } = {
      objectStore: () =>
        Object.fromEntries(
          Object.entries(store).map(([name, act]) => [
            name,
            (...args: never[]) => {
              const request: Request = {};
              later(
                () => {
                  request.result = (act as (...args: never[]) => unknown)(...args);
                  transaction.oncomplete?.();
                },
                mode === "readwrite" ? 150 : 10,
              );
              return request;
            },
          ]),
        ),
    };
    return transaction;
  };
  const open = () => {
    const request: Request = { result: { transaction, createObjectStore: () => {} } };
    later(() => request.onsuccess?.());
    return request;
  };
  return { open };
}

/** The locks of one browser. */
function fakeLocks() {
  const held = new Set<string>();
  type Grant = (lock: object | null) => Promise<void> | undefined;
  const request = async (name: string, options: { ifAvailable?: boolean }, granted: Grant) => {
    while (held.has(name)) {
      if (options.ifAvailable === true) return granted(null);
      await new Promise((resolve) => setTimeout(resolve, 5));
    }
    held.add(name);
    await granted({ name });
    held.delete(name);
  };
  return { request };
}

const kept = (client: string): Kept => ({
  client,
  seq: 3,
  epoch: 1,
  confirmed: { heads: 41 },
  lastN: 1,
  answered: 0,
  refused: 0,
  pending: [],
});

const written = new Map<string, unknown>();

beforeEach(() => {
  written.clear();
  vi.stubGlobal("indexedDB", fakeDatabase(written));
  vi.stubGlobal("IDBKeyRange", { bound: (from: string[]) => ({ from }) });
  vi.stubGlobal("navigator", { locks: fakeLocks() });
});

afterEach(() => {
  vi.unstubAllGlobals();
});

test("two pages have two clients, and a page that comes later has what an earlier one left", async () => {
  const first = await claim("gate/oda");
  first.keep(kept(first.client));
  await vi.waitFor(() => expect(written.size).toBe(1));
  const second = await claim("gate/oda");
  expect([second.client === first.client, second.kept]).toEqual([false, undefined]);
  // The last word is written before the client is another page's.
  first.keep({ ...kept(first.client), lastN: 7 });
  first.release();
  const third = await vi.waitFor(async () => {
    const page = await claim("gate/oda");
    if (page.client !== first.client) page.release();
    expect(page.client).toBe(first.client);
    return page;
  });
  expect(third.kept?.lastN).toBe(7);
  expect((await claim("gate/bram")).kept).toBeUndefined();
});

test("without locks or a database nothing outlives the page, and it works all the same", async () => {
  vi.stubGlobal("navigator", {});
  const [one, two] = [await claim("gate/oda"), await claim("gate/oda")];
  one.keep(kept(one.client));
  one.release();
  expect([one.client === two.client, two.kept]).toEqual([false, undefined]);
});
