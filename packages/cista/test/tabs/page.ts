import { createCache, Failure, source, write } from "cista";
import { joinTabs, openOutbox } from "cista/browser";

// The page that joined.e2e.test.ts opens in several tabs: a cache, sources over the test's server, kept writes.

const words = new URLSearchParams(location.search);
for (const name of words.getAll("without")) Object.defineProperty(globalThis, name, { value: undefined });
if (words.has("without-locks")) Object.defineProperty(navigator, "locks", { value: undefined });
const warnings: string[] = [];
console.warn = (...all: unknown[]) => void warnings.push(all.join(" "));

const cache = createCache({ retry: { times: 3, firstPause: "100ms" } });
const get = async (path: string, signal: AbortSignal) => {
  const response = await fetch(path, { signal, cache: "no-store" });
  if (!response.ok) throw new Failure("http", `answered ${response.status}`, { status: response.status });
  return response.json();
};
const item = source({ name: "item", maxAge: "1m", load: (id: string, { signal }) => get(`/api/${id}`, signal) });
const list = source({
  name: "list",
  maxAge: "1h",
  params: false,
  load: (_, { signal }) => get("/api/booked", signal) as Promise<number[]>,
});
const book = write<number, unknown>({
  name: "book",
  kept: true,
  optimistic: (hut, edit) => edit.at(list).patch((all) => (all.includes(hut) ? all : [...all, hut])),
  async send(hut, { idempotencyKey, signal }) {
    const headers = { "idempotency-key": idempotencyKey };
    const response = await fetch(`/api/book/${hut}`, { method: "POST", headers, signal });
    if (!response.ok) throw new Failure("http", `answered ${response.status}`, { status: response.status });
    return response.json();
  },
});
const watch = (id: string) => cache.view(item, id).subscribe(() => {});
const ready = (async () => {
  const tabs = words.has("alone") ? undefined : await joinTabs(cache);
  for (let at = 0; at < Number(words.get("items") ?? 0); at++) watch(`item-${at}`);
  const outbox = words.has("outbox") ? await openOutbox(cache, { writes: [book] }) : undefined;
  if (words.has("outbox")) cache.view(list).subscribe(() => {});
  Object.assign(globalThis, { tabs, outbox });
})();
const valueAt = (id: string) => cache.peek(item, id).value;
const shownList = () => cache.view(list).get().value;
Object.assign(globalThis, { cache, item, list, book, watch, ready, warnings, valueAt, shownList });
