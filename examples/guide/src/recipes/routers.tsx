import { createCache } from "cista";
import { origin, path } from "cista/http";
import { Outcome, useReading } from "cista/react";

const api = origin({ base: "https://huts.example" });
const hut = api.source({
  name: "hut",
  url: ({ id }: { id: string }) => path`/api/huts/${id}`,
  unwrap: (body: { name: string }) => body,
});
export const cache = createCache();

/** What a router hands to a loader: any param may be missing. */
interface Matched {
  readonly params: { readonly id?: string | undefined };
}

/** A route's loader begins the request, and does not wait: the component joins it, or finds the value. */
export function loadHut({ params: { id } }: Matched) {
  if (id !== undefined) cache.at(hut, { id }).prefetch();
  return null;
}

/** Where the router is to wait before it shows the page, and to show its own error page. */
export async function loadHutAndWait({ params: { id = "none" } }: Matched) {
  return await cache.read(hut, { id });
}

export function HutPage({ id }: { id: string }) {
  return <Outcome of={useReading(hut, { id })}>{({ name }) => <h1>{name}</h1>}</Outcome>;
}
