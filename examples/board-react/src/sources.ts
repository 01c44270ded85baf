import { origin } from "cista/http";

export interface Hut {
  id: string;
  name: string;
  region: string;
  altitude: number;
  bunks: number;
  warden: string;
  water: number;
  openMonths: number[];
  routes: string[];
}
export interface Bunks {
  night: string;
  free: number;
  of: number;
}
export interface Night {
  night: string;
  hut: string;
  name: string;
}

// Where everything on the board comes from. How long it may be used the server says itself, in its caching headers.
const greyfell = origin();

export const huts = greyfell.source<{ region?: string | undefined }, Hut[]>({
  name: "huts",
  url: ({ region }) => (region ? `/api/huts?region=${encodeURIComponent(region)}` : "/api/huts"),
  unwrap: (body) => body.huts,
});

export const hut = greyfell.source<{ id: string }, Hut>({
  name: "hut",
  url: ({ id }) => `/api/huts/${encodeURIComponent(id)}`,
});

export const bunks = greyfell.source<{ id: string; night: string }, Bunks>({
  name: "bunks",
  url: ({ id, night }) => `/api/huts/${encodeURIComponent(id)}/bunks?night=${night}`,
});

export const basket = greyfell.source<void, Night[]>({
  name: "basket",
  url: "/api/basket",
  unwrap: (body) => body.nights,
});
