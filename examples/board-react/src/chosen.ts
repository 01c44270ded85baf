import { useSyncExternalStore } from "react";

/** The chosen hut, kept in the address (`#h-07`), so that it can be linked to and gone back from. */
export function useChosenHut(): readonly [id: string | undefined, choose: (id: string) => void] {
  const id = useSyncExternalStore(onHashChange, () => decodeURIComponent(location.hash.slice(1)));
  return [id || undefined, choose];
}

function choose(id: string): void {
  location.hash = encodeURIComponent(id);
}

function onHashChange(listener: () => void): () => void {
  addEventListener("hashchange", listener);
  return () => removeEventListener("hashchange", listener);
}
