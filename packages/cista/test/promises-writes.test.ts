import { CistaError, source, write } from "cista";
import { describe, expect, test } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

// What random programs once broke, each by the shortest program that showed it.

describe("writes", () => {
  const lists = (definition: object = {}) => {
    const here = stage();
    const list = heldSource("list", { maxAge: "1d" });
    const sent: { answer(): void }[] = [];
    const add = write<string, void>({
      name: "add",
      send: () => new Promise((answer) => sent.push({ answer })),
      optimistic: (text, edit) => edit.at(list.source).patch((all: string[]) => [...all, text]),
      ...definition,
    });
    return { ...here, list, sent, add };
  };

  test("W2: a put from outside is newer than every write that has ended: its layer goes", async () => {
    const { cache, clock, list, sent, add } = lists();
    const { view } = watch(cache, list.source);
    list.loads[0]?.answer(["a"]);
    await clock.advance(0);
    const done = cache.run(add, "b");
    sent[0]?.answer();
    await done;
    cache.put(list.source, undefined, ["a", "from elsewhere"]);
    expect(view.get()).toMatchObject({ value: ["a", "from elsewhere"], fresh: true });
  });

  test("W4: a write that cannot be sent leaves no layer, and holds up no write behind it", async () => {
    expect(() => write({ name: "bad", timeout: "soon" as never, send: async () => 1 })).toThrow(CistaError);
    expect(() => write({ name: "bad", retry: { firstPause: -1 }, send: async () => 1 })).toThrow(CistaError);
    const { cache, clock, list, add } = lists({
      lane: () => {
        throw new Error("no lane");
      },
    }); // prettier-ignore
    watch(cache, list.source);
    list.loads[0]?.answer(["a"]);
    await clock.advance(0);
    await expect(cache.run(add, "b")).rejects.toThrow("no lane");
    expect(cache.peek(list.source)).toMatchObject({ value: ["a"], pendingWrites: 0 });
  });

  test("S3: a write that waits in a lane is not sent when the cache is disposed of", async () => {
    const { cache, clock, sent, add } = lists({ lane: "one" });
    const runs = [cache.run(add, "a"), cache.run(add, "b")];
    for (const run of runs) run.catch(() => {});
    cache.dispose();
    await clock.advance(0);
    expect(sent).toHaveLength(1);
    for (const run of runs) await expect(run).rejects.toMatchObject({ kind: "aborted" });
  });
});

describe("time", () => {
  test("F3: an expiry is told though something else happens before its timer rings", async () => {
    const { cache, clock } = stage();
    const { source: hut, loads } = heldSource("hut", { maxAge: "1s", staleWhileRevalidate: 0 });
    const { view } = watch(cache, hut);
    loads[0]?.answer(1);
    await clock.advance(0);
    clock.jump(2000); // the page was busy
    cache.at(hut).patch(() => 2);
    await clock.advance(0);
    expect([inShort(view.get()), loads.length]).toEqual(["ready 2 stale running", 2]);
  });

  test("F3: short visits are no polls, and a clock put back stops none", async () => {
    const { cache, clock } = stage();
    let loads = 0;
    const hut = source({ name: "hut", maxAge: "10s", revalidateEvery: "4s", load: async () => ++loads });
    for (let visit = 0; visit < 20; visit++) {
      const { leave } = watch(cache, hut);
      await clock.advance(200);
      leave();
      await clock.advance(0);
    }
    expect(loads).toBeLessThanOrEqual(2);
    watch(cache, hut);
    clock.jump(-3_600_000);
    await clock.advance("1m");
    expect(loads).toBeGreaterThan(10);
    const before = loads;
    clock.jump(8 * 3_600_000);
    watch(cache, hut);
    await clock.advance(0);
    expect(loads).toBe(before + 1);
  });
});
