import { origin, path, writeTo } from "cista/http";

export interface Hut {
  id: string;
  name: string;
  starred: boolean;
}
interface Visitor {
  cookie?: string;
}

// A server asks the API by its whole address, and for the visitor whose request it answers. A browser does both by itself.
const api = origin({
  ...(typeof document === "undefined" ? { base: globalThis.process?.env.ORIGIN ?? "http://127.0.0.1:8080" } : {}),
  headers: ({ context }) => ({ cookie: (context as Visitor | undefined)?.cookie }),
});

export const huts = api.source({ name: "huts", url: "/api/huts", unwrap: (body: { huts: Hut[] }) => body.huts });
export const hut = api.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });
export const me = api.source({ name: "me", url: "/api/me", unwrap: (body: { name: string }) => body.name });
export const basket = api.source({
  name: "basket",
  url: "/api/basket",
  noStore: true,
  unwrap: (body: { nights: string }) => body.nights,
});
/** It takes its time. */
export const notices = api.source({
  name: "notices",
  url: "/api/notices",
  unwrap: (body: { text: string }) => body.text,
});
export const star = writeTo<{ id: string; starred: boolean }, Hut>(api, {
  name: "star",
  method: "PUT",
  url: ({ id }) => path`/api/huts/${id}/star`,
  optimistic: ({ id, starred }, edit) => edit.at(hut, { id }).patch((each) => ({ ...each, starred })),
  invalidates: () => huts,
});

/** A hut in a line. */
export const inLine = ({ name, starred }: Hut): string => (starred ? `${name} ★` : name);
