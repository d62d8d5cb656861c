import { useSyncExternalStore } from "react";

const query = window.matchMedia("(max-width: 40rem)");

function subscribe(changed: () => void): () => void {
  query.addEventListener("change", changed);
  return () => query.removeEventListener("change", changed);
}

/** Whether the page is too narrow for tables. */
export function useNarrow(): boolean {
  return useSyncExternalStore(subscribe, () => query.matches);
}
