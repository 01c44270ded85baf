import { write } from "cista";
import type { KeptRecord } from "cista/browser";
import { expect, test, vi } from "vitest";
import { huts, kept, of, once, shown, states } from "./kept.js";
import { World } from "./world.js";

// Kept writes, rules O1 to O8, in virtual time: the same code as in a browser, over a database, a channel and locks of the test's.

test("O1: a kept write is stored before it is sent; answered, it is deleted, and its run has the answer", async () => {
  const { world, tabs, advance } = await kept(1);
  const one = of(tabs, 0);
  const done = one.cache.run(one.book, { hut: 7 });
  expect(shown(one)).toEqual([7]);
  expect(states(one)).toEqual(["waiting"]);
  await advance("1ms");
  expect([...world.records.values()]).toMatchObject([{ v: 1, write: "book", input: { hut: 7 } }]);
  expect(world.tries).toEqual([]);
  await advance("1s");
  expect(await done).toBe("booked 7");
  expect(states(one)).toEqual([]);
  expect(world.records.size).toBe(0);
  expect(shown(one)).toEqual([7]);
});

test("O2, O3: of several tabs one sends, in the order in which all were run, each once", async () => {
  const { world, tabs, advance } = await kept(3, { delay: 5 });
  const runs = [0, 1, 2, 0, 1].map((at, hut) => of(tabs, at).cache.run(of(tabs, at).book, { hut }));
  await advance("3s");
  expect(await Promise.all(runs)).toEqual([0, 1, 2, 3, 4].map((hut) => `booked ${hut}`));
  expect(huts(world)).toEqual([0, 1, 2, 3, 4]);
  expect(world.tries).toHaveLength(5);
  for (const tab of tabs) expect(shown(tab)).toEqual([0, 1, 2, 3, 4]);
  await advance("1s");
  expect(world.heldLocks).toEqual([]);
});

test("O4: five offline in two tabs, all closed, one opened: shown at once, sent in order, once each", async () => {
  const { world, tabs, advance } = await kept(2);
  for (const tab of tabs) tab.environment.set({ online: false });
  for (const [at, hut] of [0, 1, 0, 1, 0].entries()) {
    void of(tabs, hut)
      .cache.run(of(tabs, hut).book, { hut: at })
      .catch(() => {});
    await advance("10ms");
  }
  for (const tab of tabs) expect(shown(tab)).toEqual([0, 1, 2, 3, 4]);
  for (const tab of [...tabs]) tab.kill();
  const late = await world.open();
  void late.cache.read(late.list);
  await advance("200ms");
  late.environment.set({ online: false });
  await late.keep();
  const leave = late.cache.view(late.list).subscribe(() => {});
  expect(shown(late)).toEqual([0, 1, 2, 3, 4]);
  expect(states(late)).toEqual(["waiting", "waiting", "waiting", "waiting", "waiting"]);
  expect(world.tries).toEqual([]);
  late.environment.set({ online: true });
  await advance("3s");
  expect(huts(world)).toEqual([0, 1, 2, 3, 4]);
  expect(world.tries).toHaveLength(5);
  expect(states(late)).toEqual([]);
  leave();
});

test("O4: shown in the order in which they were run, also where another tab's is heard of late", async () => {
  const { tabs, advance } = await kept(2, { delay: 20 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  for (const tab of tabs) tab.environment.set({ online: false });
  void one.cache.run(one.book, { hut: 1 }).catch(() => {});
  await advance("1ms");
  void two.cache.run(two.book, { hut: 2 }).catch(() => {});
  await advance("100ms");
  for (const tab of tabs) expect(shown(tab)).toEqual([1, 2]);
});

test("O4: tabs that are not joined ask about the result of a write that another has sent", async () => {
  const world = new World();
  for (let at = 0; at < 2; at++) {
    const tab = await world.open({ join: false });
    await tab.keep();
    tab.cache.view(tab.list).subscribe(() => {});
  }
  const [one, two] = [of(world.tabs, 0), of(world.tabs, 1)];
  await world.clock.advance("1s");
  world.booked.set("elsewhere", 99);
  void one.cache.run(one.book, { hut: 7 });
  await world.clock.advance("2s");
  expect(shown(one)).toEqual([99, 7]);
  expect(shown(two)).toEqual([99, 7]);
});

test("O4: a write sent for a page that has ended is shown in tabs that never heard of it", async () => {
  const world = new World();
  for (let at = 0; at < 2; at++) {
    const tab = await world.open({ join: false });
    await tab.keep();
    tab.cache.view(tab.list).subscribe(() => {});
  }
  const [one, two] = [of(world.tabs, 0), of(world.tabs, 1)];
  await world.clock.advance("1s");
  const left: KeptRecord = { v: 1, id: "left", write: "book", input: { hut: 7 }, at: 0, order: 1, era: 0 };
  world.records.set("left", left);
  one.freeze();
  one.goOn(); // it reads the database, and sends
  await world.clock.advance("30ms");
  expect(states(two)).toEqual(["sending"]);
  await world.clock.advance("2s");
  expect(huts(world)).toEqual([7]);
  expect(shown(two)).toEqual([7]);
  expect(states(two)).toEqual([]);
});

test.each([1, 3, 10, 20, 30, 45])(
  "O3: the sender is killed %i ms after the run: the next goes on under the same key, and it is booked once",
  async (after) => {
    const { world, tabs, advance } = await kept(2, { delay: 5, latency: 20 });
    const [one, two] = [of(tabs, 0), of(tabs, 1)];
    void one.cache.run(one.book, { hut: 7 }).catch(() => {});
    await advance(after);
    one.kill();
    await advance("3s");
    expect(huts(world)).toEqual(world.records.size === 0 && after < 3 ? huts(world) : [7]);
    once(world);
    expect(states(two)).toEqual([]);
  },
);

test.each(["freeze", "leave", "stop"] as const)(
  "O2: the sender stands still (%s): another goes on, once",
  async (how) => {
    const { world, tabs, advance } = await kept(2, { delay: 5, latency: 1 });
    const [one, two] = [of(tabs, 0), of(tabs, 1)];
    world.latency = 5000;
    void one.cache.run(one.book, { hut: 7 }).catch(() => {});
    await advance("30ms");
    one[how]();
    world.latency = 10;
    await advance(how === "stop" ? "15s" : "1s");
    expect(huts(world)).toEqual([7]);
    expect(states(two)).toEqual([]);
    if (how === "leave") one.comeBack();
    else one.goOn();
    await advance("10s");
    expect(huts(world)).toEqual([7]);
    once(world);
    expect(states(one)).toEqual([]);
  },
);

test("O1: a page put aside while its write is stored or sent goes on when it comes back", async () => {
  const warned = vi.spyOn(console, "warn");
  const { world, tabs, advance } = await kept(1);
  const tab = of(tabs, 0);
  world.latency = 5000;
  const runs = [tab.cache.run(tab.book, { hut: 7 })];
  await advance("30ms");
  runs.push(tab.cache.run(tab.book, { hut: 8 }));
  tab.leave();
  await advance("1s");
  world.latency = 20;
  tab.comeBack();
  await advance("1s");
  expect(await Promise.allSettled(runs)).toEqual(
    [7, 8].map((hut) => ({ status: "fulfilled", value: `booked ${hut}` })),
  );
  expect(huts(world)).toEqual([7, 8]);
  expect(warned).not.toHaveBeenCalled();
  warned.mockRestore();
});

test("O2: a write that another tab has sent, or was refused, while the page was put aside is told when it comes back", async () => {
  const { world, tabs, advance } = await kept(2, { delay: 5 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  for (const tab of tabs) tab.environment.set({ online: false });
  const runs = [7, 8].map((hut) => one.cache.run(one.book, { hut }));
  const ends = Promise.allSettled(runs);
  await advance("50ms");
  one.leave();
  world.refused = 8;
  two.environment.set({ online: true });
  await advance("1s");
  expect(huts(world)).toEqual([7]);
  one.environment.set({ online: true });
  one.comeBack();
  await advance("1s");
  expect((await ends).map(({ status }) => status)).toEqual(["fulfilled", "rejected"]);
  expect(states(one)).toEqual(["refused"]);
  expect(shown(one)).toEqual([7]);
});

test("a refused one stays in every tab's list until it is put away or sent again, under another key", async () => {
  const { world, tabs, advance } = await kept(2, { delay: 5 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  world.refused = 7;
  const told: string[] = [];
  one.cache.onFailure(({ message }) => told.push(message));
  const run = two.cache.run(two.book, { hut: 7 });
  run.catch(() => {});
  void one.cache.run(one.book, { hut: 8 });
  await advance("1s");
  await expect(run).rejects.toMatchObject({ kind: "http", status: 409 });
  expect(huts(world)).toEqual([8]);
  for (const tab of tabs) {
    expect(states(tab)).toEqual(["refused"]);
    expect(tab.outbox?.list()[0]?.failure).toMatchObject({ status: 409, message: "full" });
    expect(shown(tab)).toEqual([8]);
  }
  world.refused = undefined;
  const { id = "" } = one.outbox?.list()[0] ?? {};
  void one.outbox?.retry(id);
  await advance("1s");
  expect(huts(world)).toEqual([8, 7]);
  expect(new Set(world.tries).size).toBe(3);
  for (const tab of tabs) expect(states(tab)).toEqual([]);
});

test("a waiting write is dropped in every tab, and its layers with it; an aborted one is dropped", async () => {
  const { world, tabs, advance } = await kept(2, { delay: 5 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  for (const tab of tabs) tab.environment.set({ online: false });
  const abort = new AbortController();
  const run = one.cache.run(one.book, { hut: 7 }, { signal: abort.signal });
  run.catch(() => {});
  void one.cache.run(one.book, { hut: 8 }).catch(() => {});
  await advance("100ms");
  expect(shown(two)).toEqual([7, 8]);
  void two.outbox?.drop(two.outbox.list()[1]?.id ?? "");
  abort.abort(new Error("thought better of it"));
  await advance("100ms");
  await expect(run).rejects.toThrow("thought better of it");
  for (const tab of tabs) {
    expect(states(tab)).toEqual([]);
    expect(shown(tab)).toEqual([]);
  }
  expect(world.records.size).toBe(0);
});

test("O5: a write that this version of the program does not know, or cannot read, is shown as unknown and not sent", async () => {
  const { world, advance } = await kept(0);
  const record = (id: string, name: string, input: unknown, order: number) =>
    world.records.set(id, { v: 1, id, write: name, input, at: 0, order, era: 0 });
  record("a", "renamed", { hut: 1 }, 1);
  record("b", "book", { room: 1 }, 2);
  record("c", "book", { hut: 3 }, 3);
  world.records.set("d", { v: 2, id: "d" } as never); // of another form
  const tab = await world.open();
  const hasHut = (input: any) =>
    typeof input.hut === "number" ? { value: input } : { issues: [{ message: "no hut" }] };
  const check = { "~standard": { version: 1, vendor: "test", validate: hasHut } } as const;
  await tab.keep({ writes: [write({ ...tab.book.definition, check: check as never })] });
  await advance("1s");
  expect(huts(world)).toEqual([3]);
  expect(states(tab)).toEqual(["unknown", "unknown"]);
});

test("O7: an input that cannot be stored, and a write that the outbox does not know, are errors before anything is shown", async () => {
  const { tabs, advance } = await kept(1);
  const one = of(tabs, 0);
  const strange = { hut: 7, open: () => {} };
  await expect(one.cache.run(one.book, strange)).rejects.toMatchObject({ code: "invalid-write-input" });
  const other = write<void, void>({ name: "other", kept: true, send: async () => {} });
  await expect(one.cache.run(other)).rejects.toThrow("Name it among the writes of openOutbox");
  await advance("100ms");
  expect(shown(one)).toEqual([]);
  expect(states(one)).toEqual([]);
});

test("O8: where it cannot be stored it is sent like any other, with a warning", async () => {
  const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
  const world = new World();
  const tab = await world.open();
  const full = new DOMException("The disk is full.", "QuotaExceededError");
  const nothing = async () => {};
  await tab.keep({
    backend: {
      readAll: async () => [],
      get: async () => undefined,
      put: () => Promise.reject(full),
      delete: nothing,
      clear: nothing,
      close() {},
    },
  });
  const run = tab.cache.run(tab.book, { hut: 7 });
  await world.clock.advance("1s");
  expect(await run).toBe("booked 7");
  expect(String(warn.mock.calls[0]?.[0])).toContain("could not be kept");
  warn.mockRestore();
});

test("the network goes away in mid-send: no lock is held meanwhile, and it is sent when the network is back", async () => {
  const { world, tabs, advance } = await kept(2, { delay: 5 });
  const one = of(tabs, 0);
  world.latency = 5000;
  const run = one.cache.run(one.book, { hut: 7 });
  await advance("30ms");
  for (const tab of tabs) tab.environment.set({ online: false });
  await advance("1s");
  expect(world.heldLocks).toEqual([]);
  expect(states(one)).toEqual(["waiting"]);
  world.latency = 10;
  for (const tab of tabs) tab.environment.set({ online: true });
  await advance("1s");
  expect(await run).toBe("booked 7");
  once(world);
});

test("O2: a hundred writes that waited are sent without reading the database a hundred times", async () => {
  const { world, tabs, advance } = await kept(1);
  const one = of(tabs, 0);
  one.environment.set({ online: false });
  for (let hut = 0; hut < 100; hut++) void one.cache.run(one.book, { hut }).catch(() => {});
  await advance("1s");
  const before = world.readRecords;
  one.environment.set({ online: true });
  await advance("30s");
  expect(huts(world)).toHaveLength(100);
  expect(world.readRecords - before).toBeLessThan(400);
});

test("O2: a tab from which the sending was taken asks for the lock again only after its last write has ended", async () => {
  const world = new World();
  world.latency = 400;
  const locksFor = world.locksFor.bind(world);
  let requests = 0;
  world.locksFor = (tab) => ({
    // One that asks without a pause would ask for ever: no time passes between two requests.
    request: (...request) => (++requests > 100 ? new Promise(() => {}) : locksFor(tab).request(...request)),
  });
  const [hung, other] = [await world.open(), await world.open()];
  for (const tab of [hung, other]) await tab.keep();
  for (const hut of [1, 2]) void hung.cache.run(hung.book, { hut });
  await world.clock.advance("30ms");
  hung.stop();
  void other.cache.run(other.book, { hut: 3 });
  await world.clock.advance("5500ms");
  other.environment.set({ online: false }); // it takes the sending, and lets go of it
  await world.clock.advance("2s");
  hung.goOn();
  await world.clock.advance("5s");
  other.environment.set({ online: true });
  await world.clock.advance("5s");
  expect(requests).toBeLessThan(20);
  expect(huts(world).sort()).toEqual([1, 2, 3]);
  once(world);
});

test.each([true, false])(
  "O2: the entries of a write that is dropped after a try are requested, since the write may have worked (optimistic: %s)",
  async (isShown) => {
    const { world, tabs, advance } = await kept(1);
    const one = of(tabs, 0);
    const { optimistic: _, ...definition } = one.book.definition;
    const named = write<{ hut: number }, string>({
      ...definition,
      name: "named",
      invalidates: () => one.list,
    });
    const writes = [isShown ? one.book : named];
    if (!isShown) {
      one.outbox?.close();
      await one.keep({ writes });
    }
    one.cache.run(writes[0] as typeof named, { hut: 7 }).catch(() => {});
    while (world.booked.size === 0) await advance("1ms");
    one.environment.set({ online: false }); // the answer does not come
    await advance("10ms");
    const [waiting] = one.outbox?.list() ?? [];
    expect(waiting?.state).toBe("waiting");
    void one.outbox?.drop(waiting?.id ?? "");
    one.environment.set({ online: true });
    await advance("1s");
    expect([shown(one), states(one)]).toEqual([[7], []]);
  },
);
