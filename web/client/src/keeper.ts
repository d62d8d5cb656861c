import type { Kept } from "./replica.ts";
import { uuid7 } from "./uuid.ts";

/**
 * One client of a participant, held by this page alone: a second page gets another one, and a page
 * that comes back gets what an earlier one left pending.
 */
export type Claim = {
  client: string;
  kept: Kept | undefined;
  /** Keeps a replica, or forgets it. */
  keep: (kept: Kept | undefined) => void;
  /** Lets another page have the client. */
  release: () => void;
};

const DATABASE = "rendel";
const STORE = "pending";

/**
 * Claims a client under a name, such as the session and the participant. Where the browser has no
 * IndexedDB or no locks, as in a page without TLS, nothing outlives the page.
 */
export async function claim(name: string): Promise<Claim> {
  const database = await open().catch(() => undefined);
  if (database === undefined || navigator.locks === undefined) return passing();
  const left = await all(database, name).catch(() => []);
  for (const kept of left) {
    const release = await hold(`${DATABASE}/${name}/${kept.client}`);
    if (release !== undefined) return claimed(database, name, kept.client, kept, release);
  }
  const client = uuid7();
  const release = await hold(`${DATABASE}/${name}/${client}`);
  return claimed(database, name, client, undefined, release ?? (() => {}));
}

function passing(): Claim {
  return { client: uuid7(), kept: undefined, keep: () => {}, release: () => {} };
}

function claimed(
  database: IDBDatabase,
  name: string,
  client: string,
  kept: Kept | undefined,
  release: () => void,
): Claim {
  const key = [name, client];
  let last = Promise.resolve();
  const keep = (kept: Kept | undefined) => {
    const write = (store: IDBObjectStore) =>
      kept === undefined ? store.delete(key) : store.put(kept, key);
    // A browser that refuses to store more loses the keeping, not the session.
    last = run(database, "readwrite", write).then(
      () => {},
      () => {},
    );
  };
  return { client, kept, keep, release: () => void last.then(release) };
}

/**
 * Holds a lock for as long as the page lives or until it is released; nothing where another page
 * has it.
 */
function hold(name: string): Promise<(() => void) | undefined> {
  return new Promise((resolve) => {
    void navigator.locks.request(name, { ifAvailable: true }, (lock) => {
      if (lock === null) return resolve(undefined);
      return new Promise<void>((release) => resolve(release));
    });
  });
}

function open(): Promise<IDBDatabase> {
  return new Promise((resolve, reject) => {
    const request = indexedDB.open(DATABASE, 1);
    request.onupgradeneeded = () => request.result.createObjectStore(STORE);
    request.onsuccess = () => resolve(request.result);
    request.onerror = () => reject(request.error);
  });
}

function all(database: IDBDatabase, name: string): Promise<Kept[]> {
  const range = IDBKeyRange.bound([name, ""], [name, "\uffff"]);
  return run(database, "readonly", (store) => store.getAll(range)) as Promise<Kept[]>;
}

function run(
  database: IDBDatabase,
  mode: IDBTransactionMode,
  act: (store: IDBObjectStore) => IDBRequest,
): Promise<unknown> {
  return new Promise((resolve, reject) => {
    const transaction = database.transaction(STORE, mode);
    const request = act(transaction.objectStore(STORE));
    transaction.oncomplete = () => resolve(request.result);
    transaction.onerror = () => reject(transaction.error);
    transaction.onabort = () => reject(transaction.error);
  });
}
