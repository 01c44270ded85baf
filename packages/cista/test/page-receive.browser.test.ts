import { createCache, source, takeSnapshot } from "cista";
import { receivePage } from "cista/browser";
import { afterEach, expect, test, vi } from "vitest";
import { renderingOf } from "../src/core/doors/page.js";

const block = (text: string) => {
  const script = document.createElement("script");
  script.type = "application/json";
  script.className = "cista-page";
  script.textContent = text;
  document.body.append(script);
};
afterEach(() => {
  for (const script of document.querySelectorAll(".cista-page")) script.remove();
  vi.restoreAllMocks();
});
const define = () => {
  let loads = 0;
  const load = async (_id: number): Promise<string> => `asked ${++loads}`;
  return { hut: source({ name: "hut", maxAge: "1h", load }), loads: () => loads };
};
const snapshot = (partition?: string) => {
  const cache = createCache(partition === undefined ? {} : { partition });
  cache.put(define().hut, 1, "Harebell");
  return { ...takeSnapshot(cache), live: true };
};

test("H9: an entry that cannot be read, or is another partition's, is dropped with a warning, and the rest is taken in", async () => {
  const warned = vi.spyOn(console, "warn").mockReturnValue();
  block("{ this is no JSON");
  block(JSON.stringify({ format: "another" }));
  block(JSON.stringify(snapshot("somebody else")));
  block(JSON.stringify(snapshot()));
  const cache = createCache();
  await receivePage(cache);
  expect(warned).toHaveBeenCalledTimes(3);
  const { hut, loads } = define();
  expect(cache.peek(hut, 1)).toMatchObject({ state: "ready", value: "Harebell" });
  expect(await cache.read(hut, 2)).toBe("asked 1");
  expect(loads()).toBe(1);
  cache.dispose();
});

test("H2: a page without anything is received, and loads by itself", async () => {
  const cache = createCache();
  await receivePage(cache);
  const { hut } = define();
  expect(await cache.read(hut, 1)).toBe("asked 1");
  cache.dispose();
});

test("H9: only a script element of the page's own is taken in: a visitor's markup bears its class in vain", async () => {
  const { hut, loads } = define();
  const forged = { ...snapshot(), entries: [{ ...(snapshot().entries[0] as object), value: "forged" }] };
  for (const [element, namespace] of [
    ["p", "http://www.w3.org/1999/xhtml"],
    ["script", "http://www.w3.org/2000/svg"],
    ["template", "http://www.w3.org/1999/xhtml"],
  ] as const) {
    const markup = document.createElementNS(namespace, element);
    markup.setAttribute("class", "cista-page");
    markup.setAttribute("type", "application/json");
    markup.textContent = JSON.stringify(forged);
    document.body.append(markup);
  }
  const cache = createCache();
  await receivePage(cache);
  expect(cache.peek(hut, 1).state).toBe("empty");
  block(JSON.stringify(snapshot()));
  const next = createCache();
  await receivePage(next);
  expect([next.peek(hut, 1).value, loads()]).toEqual(["Harebell", 0]);
});

test("H9: receivePage resolves with any input: the components are hydrated all the same", async () => {
  const warned = vi.spyOn(console, "warn").mockReturnValue();
  let deep: any = 1;
  for (let level = 0; level < 1500; level++) deep = [deep];
  const [entry] = snapshot().entries as object[];
  block("null");
  block(
    JSON.stringify({ ...snapshot(), entries: [{ ...entry, params: "\ud800" }, { ...entry, params: deep }, entry] }),
  );
  const cache = createCache();
  await receivePage(cache);
  expect(cache.peek(define().hut, 1).value).toBe("Harebell");
  expect(warned).toHaveBeenCalledTimes(1);
});

test("H9: a value that the source's check refuses is not shown, not even while the page is hydrated", async () => {
  block(JSON.stringify(snapshot()));
  const check = {
    "~standard": { version: 1 as const, vendor: "own", validate: () => ({ issues: [{ message: "no" }] }) },
  };
  const hut = source({ name: "hut", check, load: async (_id: number) => "asked" });
  const cache = createCache();
  await receivePage(cache);
  const view = cache.view(hut, 1);
  expect([renderingOf(cache)?.of(view, hut as never, true), view.get().state]).toEqual([undefined, "loading"]);
});

test("H2: received once more, the values of another page are there: by its document, or handed over as a snapshot", async () => {
  const { hut, loads } = define();
  const cache = createCache();
  block(JSON.stringify(snapshot()));
  await receivePage(cache);
  for (const script of document.querySelectorAll(".cista-page")) script.remove();
  const [entry] = snapshot().entries as object[];
  block(JSON.stringify({ ...snapshot(), entries: [{ ...entry, params: 2, value: "Peat Hag" }] }));
  await receivePage(cache);
  void receivePage(cache, { ...snapshot(), entries: [{ ...entry, params: 3, value: "Tarn Shelf" }] });
  expect([1, 2, 3].map((id) => cache.peek(hut, id).value)).toEqual(["Harebell", "Peat Hag", "Tarn Shelf"]);
  for (const id of [1, 2, 3]) cache.view(hut, id).subscribe(() => {});
  expect(loads()).toBe(0);
  cache.dispose();
});

test("H9: a held value without a text in JSON, under the key of a page's value, breaks no hydration", async () => {
  const hut = source({ name: "hut", maxAge: "1h", load: async (_id: number): Promise<unknown> => 0 });
  const cache = createCache();
  cache.put(hut, 1, { visits: 5n });
  block(JSON.stringify(snapshot()));
  await receivePage(cache);
  const view = cache.view(hut, 1);
  expect(renderingOf(cache)?.of(view, hut, true)).toMatchObject({ state: "ready", value: "Harebell" });
  cache.dispose();
});
