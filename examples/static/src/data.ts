import type { Bunks, Hut } from "@cista/example-board-shared";
import { origin, path, withQuery } from "cista/http";

// While the page is built, its data comes from the address that the build names; in a browser from where the page lies.

const api = origin({
  base: typeof document === "undefined" ? (process.env.STATIC_ORIGIN ?? "http://127.0.0.1") : location.origin,
});

export const huts = api.source({
  name: "huts",
  url: ({ region }: { region: string }) => withQuery("/api/huts", { region }),
  unwrap: (body: { huts: Hut[] }) => body.huts,
});
export const hut = api.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });
export const bunks = api.source<{ id: string; night: string }, Bunks>({
  name: "bunks",
  url: ({ id, night }) => withQuery(path`/api/huts/${id}/bunks`, { night }),
});
