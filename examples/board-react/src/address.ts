import { useSyncExternalStore } from "react";

/** What is chosen on the page. It stands in the address (`#h-07?region=Ashdale&route=r-1`), to be linked to and gone back from. */
export interface Chosen {
  readonly hut: string | undefined;
  readonly route: string | undefined;
  readonly region: string | undefined;
  /** A word in the hut's name. */
  readonly q: string;
}

export function useChosen(): Chosen {
  return read(useSyncExternalStore(onHashChange, () => location.hash));
}

/** Another page to go back from, unless it is only one letter more of a search. */
export function choose(change: Partial<Chosen>): void {
  const hash = written({ ...read(location.hash), ...change });
  if ("q" in change) location.replace(hash);
  else location.hash = hash;
  // The event comes later, and by then the next letter may have been typed into the field as it was before this one.
  for (const listener of listeners) listener();
}

const listeners = new Set<() => void>();

function read(hash: string): Chosen {
  const [hut = "", query = ""] = hash.slice(1).split("?");
  const given = new URLSearchParams(query);
  return {
    hut: decodeURIComponent(hut) || undefined,
    route: given.get("route") ?? undefined,
    region: given.get("region") ?? undefined,
    q: given.get("q") ?? "",
  };
}

function written({ hut = "", route, region, q }: Chosen): string {
  const query = new URLSearchParams();
  for (const [name, value] of Object.entries({ region, q, route })) if (value) query.set(name, value);
  return `#${encodeURIComponent(hut)}${query.size > 0 ? `?${query}` : ""}`;
}

function onHashChange(listener: () => void): () => void {
  addEventListener("hashchange", listener);
  listeners.add(listener);
  return () => {
    removeEventListener("hashchange", listener);
    listeners.delete(listener);
  };
}
