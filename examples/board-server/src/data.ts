import type { Bunks, Hut, Night } from "@cista/example-board-shared";
import { type Cache, createCache } from "cista";
import { origin, path, withQuery, writeTo } from "cista/http";

// The same definitions on the server and in the browser. Whose data it is stands in the cache's `context`: on a server that of one
// request, so that no variable of a module holds a user.

/** What one request's cache is for. */
export interface Visit {
  readonly cookie: string;
}

const base = typeof document === "undefined" ? (process.env.BOARD_ADDRESS ?? "http://127.0.0.1") : location.origin;
/** What is the same for all walkers: asked for without a word of who asks, so that a fleet may share it. */
const api = origin({ base });
/** What is each walker's own. */
const own = origin({ base, headers: ({ context }) => (context ? { cookie: (context as Visit).cookie } : {}) });

/** One for each request on the server, one for the page in a browser. */
export const cacheFor = (visit?: Visit): Cache =>
  createCache({ retry: { times: 1, firstPause: "200ms" }, ...(visit ? { context: visit } : {}) });

export const huts = api.source({
  name: "huts",
  url: ({ q }: { q: string }) => withQuery("/api/huts", { q: q || undefined }),
  unwrap: (body: { huts: Hut[] }) => body.huts,
});
export const hut = api.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });
export const bunks = api.source<{ id: string; night: string }, Bunks>({
  name: "bunks",
  url: ({ id, night }) => withQuery(path`/api/huts/${id}/bunks`, { night }),
});
export const basket = own.source({
  name: "basket",
  url: "/api/basket",
  unwrap: (body: { nights: Night[] }) => body.nights,
});
export const book = writeTo<Night, Night>(own, {
  name: "book",
  method: "POST",
  url: "/api/basket",
  optimistic: (booking, edit) =>
    edit
      .at(basket)
      .patch((nights) => (nights.some(({ night }) => night === booking.night) ? nights : [...nights, booking])),
});
