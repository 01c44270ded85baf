import { createCache, source, takeSnapshot } from "cista";
import { receive } from "cista/browser";
import { afterEach, expect, test, vi } from "vitest";

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

test("H9: what cannot be read, or is another partition's, is dropped with a warning, and the rest is taken in", async () => {
  const warned = vi.spyOn(console, "warn").mockReturnValue();
  block("{ this is no JSON");
  block(JSON.stringify({ format: "another" }));
  block(JSON.stringify(snapshot("somebody else")));
  block(JSON.stringify(snapshot()));
  const cache = createCache();
  await receive(cache);
  expect(warned).toHaveBeenCalledTimes(3);
  const { hut, loads } = define();
  expect(cache.peek(hut, 1)).toMatchObject({ state: "ready", value: "Harebell" });
  expect(await cache.read(hut, 2)).toBe("asked 1");
  expect(loads()).toBe(1);
  cache.dispose();
});

test("H2: a page without anything is received, and loads by itself", async () => {
  const cache = createCache();
  await receive(cache);
  const { hut } = define();
  expect(await cache.read(hut, 1)).toBe("asked 1");
  cache.dispose();
});
