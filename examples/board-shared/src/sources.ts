import { type Cache, createCache, type Failure } from "cista";
import { origin, path, withQuery, writeTo } from "cista/http";

// Where everything on the small boards comes from, and how it is changed. How long it may be used the server says itself.

export interface Hut {
  readonly id: string;
  readonly name: string;
  readonly region: string;
  readonly altitude: number;
  readonly warden: string;
  readonly water: number;
}
export interface Bunks {
  readonly night: string;
  readonly free: number;
  readonly of: number;
}
export interface Night {
  readonly night: string;
  readonly hut: string;
}

const greyfell = origin();

export const huts = greyfell.source({
  name: "huts",
  url: ({ region, q }: { region?: string | undefined; q?: string | undefined }) =>
    withQuery("/api/huts", { region: region || undefined, q: q || undefined }),
  unwrap: (body: { huts: Hut[] }) => body.huts,
});

export const hut = greyfell.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });

export const bunks = greyfell.source<{ id: string; night: string }, Bunks>({
  name: "bunks",
  url: ({ id, night }) => withQuery(path`/api/huts/${id}/bunks`, { night }),
});

export const basket = greyfell.source({
  name: "basket",
  url: "/api/basket",
  unwrap: (body: { nights: Night[] }) => body.nights,
});

export const book = writeTo<Night, Night>(greyfell, {
  name: "book",
  method: "POST",
  url: "/api/basket",
  retry: { times: 3 },
  optimistic(booking, edit) {
    edit
      .at(basket)
      .patch((nights) => (nights.some(({ night }) => night === booking.night) ? nights : [...nights, booking]));
    edit.at(bunks, { id: booking.hut, night: booking.night }).patch((now) => ({ ...now, free: now.free - 1 }));
  },
});

/** Failures are told quickly here: one more try. */
export const boardCache = (): Cache => createCache({ retry: { times: 1, firstPause: "200ms" } });

export const regions: readonly string[] = ["Ashdale", "Corrie Tops", "Lower Fells", "Saltmarch"];

/** The hut in the address: `#h-07`. */
export const chosenHut = (): string | undefined => location.hash.slice(1) || undefined;

/** A month from the day on which the made-up story stands still. */
export const someNight = "2026-12-23";

/** What a person is told of a refusal: in the server's own words, where it sent some. */
export const told = (failure: Failure): string => failure.problem?.detail ?? failure.message;

export const nightsInWords = (nights: readonly Night[] | undefined): string =>
  nights === undefined ? "…" : `${nights.length} ${nights.length === 1 ? "night" : "nights"} in your basket`;

export const ageInWords = (fresh: boolean | undefined, request: string): string =>
  request === "running" ? "being checked" : request === "offline" ? "offline" : fresh ? "fresh" : "stale";
