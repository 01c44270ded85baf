// The board's sources as one would write them without `cista/http`: the same lifetimes, said by code, and no validators.
// The logbook, the notices and what is written are as they are.
import { source } from "cista";

export * from "../../examples/board-react/src/sources.js";

import type { Bunks, Hut, Night } from "../../examples/board-react/src/world.js";

async function json(path: string, signal: AbortSignal, cache: RequestCache) {
  const response = await fetch(path, { signal, cache });
  if (!response.ok) throw new Error(`${path} answered ${response.status}`);
  return response.json();
}

export const huts = source({
  name: "huts",
  maxAge: "30s",
  staleWhileRevalidate: "5m",
  load: async ({ region }: { region?: string | undefined; q?: string | undefined }, { signal }): Promise<Hut[]> =>
    (await json(region ? `/api/huts?region=${region}` : "/api/huts", signal, "no-store")).huts,
});

export const hut = source({
  name: "hut",
  maxAge: "1m",
  load: ({ id }: { id: string }, { signal }): Promise<Hut> => json(`/api/huts/${id}`, signal, "no-store"),
});

export const bunks = source({
  name: "bunks",
  maxAge: "5s",
  staleWhileRevalidate: 0,
  staleIfError: 0,
  load: ({ id, night }: { id: string; night: string }, { signal }): Promise<Bunks> =>
    json(`/api/huts/${id}/bunks?night=${night}`, signal, "no-store"),
});

export const basket = source({
  name: "basket",
  noStore: true,
  params: false,
  load: async (_: void, { signal }): Promise<Night[]> => (await json("/api/basket", signal, "no-store")).nights,
});
