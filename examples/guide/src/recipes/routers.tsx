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

/** A route's loader begins the request, and does not wait: the component joins it, or finds the value. */
export function loadHut({ params }: { params: { id: string } }) {
  cache.at(hut, params).prefetch();
  return null;
}

/** Where the router is to wait before it shows the page, and to show its own error page. */
export const loadHutAndWait = ({ params }: { params: { id: string } }) => cache.read(hut, params);

export function HutPage({ id }: { id: string }) {
  return <Outcome of={useReading(hut, { id })}>{({ name }) => <h1>{name}</h1>}</Outcome>;
}
