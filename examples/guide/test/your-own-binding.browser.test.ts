/// <reference types="vite/client" />
import { createCache, entriesOf, source, write } from "cista";
import { virtualClock } from "cista/rehearsal";
import { expect, test } from "vitest";
import page from "../../../docs/guide/frameworks/your-own.md?raw";
import { cleanUp, runEffect, signal } from "../src/your-framework.js";
import { useReading, useWrite } from "../src/your-own-binding.js";
import text from "../src/your-own-binding.ts?raw";

const boards = import.meta.glob<string>(["../../board-*/src/*", "./frameworks/*"], {
  query: "?raw",
  import: "default",
});
const frameworks = import.meta.glob<string>("../../../docs/guide/frameworks/*.md", {
  query: "?raw",
  import: "default",
});
const inLine = (code: string) => code.replace(/\s+/g, " ").trim();

test("the page has the binding word for word", () => {
  expect(/```ts\n(import.*?)```/s.exec(page)?.[1]).toBe(text);
});

test("the code on the pages of the frameworks is that of the boards, or of a test", async () => {
  const files = await Promise.all(Object.values(boards).map(async (load) => inLine(await load())));
  for (const [path, load] of Object.entries(frameworks)) {
    if (path.endsWith("your-own.md")) continue;
    const blocks = [...(await load()).matchAll(/```(?!sh)\w+\n(.*?)```/gs)].map(([, code = ""]) => inLine(code));
    const own = blocks.filter((code) => !files.some((file) => file.includes(code)));
    expect(own.length, `${path}: ${own.join("\n\n")}`).toBeLessThanOrEqual(1); // what no board needs, such as waiting
    expect(blocks.length).toBeGreaterThan(2);
  }
});

test("it follows its params, runs only the readers of a changed member, and leaves nothing behind", async () => {
  const clock = virtualClock();
  const cache = createCache({ clock });
  const aborted: number[] = [];
  const hut = source({
    name: "hut",
    maxAge: "1h",
    load: async (id: number, { signal }) => {
      signal.addEventListener("abort", () => aborted.push(id));
      await new Promise((resolve) => clock.setTimer(() => resolve(undefined), 1000));
      return { name: `Hut ${id}`, water: 90 };
    },
  });
  const chosen = signal();
  let id = 1;
  const seen: string[] = [];
  const reading = useReading(cache, hut, () => {
    chosen.track();
    return id;
  });
  runEffect(() => seen.push(`${reading.state} ${reading.value?.name ?? ""}`.trim()));
  id = 2;
  chosen.trigger();
  await clock.advance("2s");
  expect(seen.at(-1)).toBe("ready Hut 2");
  expect(aborted).toEqual([1]);
  const before = seen.length;
  cache.invalidate(hut); // neither `fresh` nor `request` was looked at
  await clock.advance(0);
  expect(seen).toHaveLength(before);
  const { run, status } = useWrite(cache, write<void, string>({ name: "save", send: async () => "saved" }));
  expect(await run()).toMatchObject({ phase: "done", result: "saved" });
  expect(status().phase).toBe("done");
  cleanUp();
  await clock.advance("2s");
  expect([...entriesOf(cache)].filter(({ watchers }) => watchers > 0)).toEqual([]);
  cache.dispose();
});
