import { createCache, entriesOf, journalOf, restoreSnapshot, type Snapshot, source, takeSnapshot, where } from "cista";
import { recordJournal, virtualClock } from "cista/rehearsal";
import fc from "fast-check";
import { expect, test } from "vitest";
import { inShort, stage, watch } from "./stage.js";

const hut = source({ name: "hut", maxAge: "1m", load: async (id: any): Promise<any> => id });
const throughText = (snapshot: Snapshot): Snapshot => JSON.parse(JSON.stringify(snapshot));

test("S1: a restored value is as old as when it was taken, and the time since", async () => {
  const here = stage();
  here.cache.put(hut, { id: 1 }, { water: 90 }, { age: "10s", groups: ["huts"], validator: { etag: '"a"' } });
  here.cache.put(hut, 2, "for ever", { maxAge: Number.POSITIVE_INFINITY, immutable: true });
  here.cache.put(hut, 3, "secret", { noStore: true });
  watch(here.cache, hut, 3); // held for as long as it is watched, and still not written
  here.cache.put(hut, 4, "doubted");
  here.cache.invalidate({ source: hut, params: 4 });
  await here.clock.advance("5s");
  const snapshot = throughText(takeSnapshot(here.cache));
  expect(snapshot.entries).toHaveLength(2); // S2; and what is not trusted stays behind

  const there = stage({ clock: virtualClock(snapshot.takenAt + 20_000) });
  restoreSnapshot(there.cache, snapshot);
  expect(inShort(there.cache.peek(hut, { id: 1 }))).toBe('ready {"water":90}');
  const [first, second] = [...entriesOf(there.cache)];
  expect(first).toMatchObject({ groups: ["huts"], staleAt: snapshot.takenAt + 20_000 + 25_000 });
  expect(second?.staleAt).toBeUndefined();
  expect(throughText(takeSnapshot(there.cache)).entries[0]).toEqual({
    ...(snapshot.entries[0] as object),
    age: 35_000,
  });

  const slow = stage({ clock: virtualClock(snapshot.takenAt - 3000), snapshot }); // a clock a little behind: no younger
  slow.cache.peek(hut, 1);
  expect(throughText(takeSnapshot(slow.cache)).entries[0]).toEqual(snapshot.entries[0]);
});

test("S1: a value's moment is the same there, also where the clock goes on between two looks at it", () => {
  const goesOn = (now: number) => ({ now: () => now++, random: () => 0, setTimer: () => undefined, clearTimer() {} });
  const here = createCache({ clock: goesOn(Date.UTC(2026, 10, 23, 18)) });
  here.put(hut, 1, "old");
  const { asOf } = here.peek(hut, 1);
  const snapshot = takeSnapshot(here);
  for (const isSourceKnown of [true, false]) {
    const there = createCache({ clock: goesOn(snapshot.takenAt + 20_000) });
    if (isSourceKnown) there.put(hut, 2, "of here");
    restoreSnapshot(there, snapshot);
    expect(there.peek(hut, 1).asOf).toBe(asOf);
  }
});

test("S1: a held value is newer than a restored one; the rest waits for its source", async () => {
  const here = stage();
  here.cache.put(hut, 1, "old");
  here.cache.put(hut, 2, "old");
  const snapshot = takeSnapshot(
    here.cache,
    where(({ params }) => params === 1 || params === 2),
  );
  const there = stage({ retain: "1m" });
  there.cache.put(hut, 1, "new");
  restoreSnapshot(there.cache, snapshot);
  expect([1, 2].map((id) => there.cache.peek(hut, id).value)).toEqual(["new", "old"]);

  const waiting = stage({ retain: "1m", snapshot });
  expect([...entriesOf(waiting.cache)]).toEqual([]);
  const view = watch(waiting.cache, hut, 1).view;
  expect(inShort(view.get())).toBe('ready "old"');
  const used = stage({ snapshot });
  await used.clock.advance("20s"); // it grows older while it waits for its source
  expect(used.cache.peek(hut, 1)).toMatchObject({ fresh: true, asOf: snapshot.takenAt }); // as stored there
  expect([...entriesOf(used.cache)][0]?.staleAt).toBe(used.clock.now() + 40_000);
  const late = stage({ retain: "1m", snapshot });
  await late.clock.advance("1m");
  expect(late.cache.peek(hut, 1).state).toBe("empty");
  expect(late.clock.pendingTimers).toBe(0);
});

test("another partition's snapshot is refused, and one of another form", () => {
  const one = stage({ partition: "ada" });
  one.cache.put(hut, 1, "ada's");
  const snapshot = takeSnapshot(one.cache);
  expect(() => stage({ partition: "bram", snapshot })).toThrow(
    'The snapshot is of the partition "ada", and this cache of "bram"',
  );
  expect(() => stage({ snapshot })).toThrow(expect.objectContaining({ code: "invalid-snapshot" }));
  for (const bad of [
    null,
    1,
    [],
    {},
    { ...snapshot, version: 2 },
    { ...snapshot, takenAt: "now" },
    { ...snapshot, entries: {} },
  ]) {
    expect(() => restoreSnapshot(one.cache, bad as any)).toThrow(expect.objectContaining({ code: "invalid-snapshot" }));
  }
});

const good = {
  source: "hut",
  params: 1,
  kind: "value",
  value: "good",
  age: 0,
  maxAge: 60_000,
  staleWhileRevalidate: null,
  staleIfError: null,
};
let deep: unknown = 1;
for (let n = 0; n < 5000; n++) deep = [deep];

test.each<[string, unknown]>([
  ["nothing", null],
  ["text", "hut"],
  ["a list", [good]],
  ["no source", { ...good, source: 7 }],
  ["an age that is no number", { ...good, age: Number.NaN }],
  ["a negative age", { ...good, age: -1 }],
  ["an endless age", { ...good, age: Number.POSITIVE_INFINITY }],
  ["a lifetime as text", { ...good, maxAge: "1h" }],
  ["a lifetime left out", { ...good, maxAge: undefined }],
  ["another kind", { ...good, kind: "unchanged" }],
  ["a value left out", { ...good, value: undefined }],
  ["a missing thing with a value", { ...good, kind: "missing" }],
  ["groups that are no list", { ...good, groups: "huts" }],
  ["a group that is no text", { ...good, groups: ["huts", 1] }],
  ["an etag that is no text", { ...good, etag: {} }],
  ["a flag that is none", { ...good, immutable: "yes" }],
  ["params nested too deep", { ...good, params: deep }],
  ["members of a prototype only", Object.create(good)],
])("a hostile entry is dropped and journaled, and the rest is restored: %s", (_, entry) => {
  const { cache, events } = stage();
  cache.peek(hut, 0);
  const snapshot = {
    format: "cista-snapshot",
    version: 1,
    takenAt: 0,
    entries: [entry, { ...good, params: 2 }],
  } as Snapshot;
  restoreSnapshot(cache, snapshot);
  expect([...entriesOf(cache)].map(({ params }) => params)).toEqual([2]);
  expect(events.map(({ kind }) => kind).filter((kind) => kind === "warning")).toHaveLength(1);
  expect(({} as any).polluted).toBeUndefined();
});

test("S1: prototypes stay as they are, with any members in a snapshot", () => {
  const hostile = JSON.parse(
    `{"format":"cista-snapshot","version":1,"takenAt":0,"entries":[{"__proto__":{"polluted":1},"source":"hut","params":{"__proto__":1},"kind":"value","value":{"__proto__":{"polluted":1}},"age":1e999,"age":0,"maxAge":1,"staleWhileRevalidate":0,"staleIfError":0}]}`,
  );
  const { cache, events } = stage({ capacity: 3 });
  restoreSnapshot(cache, hostile);
  cache.put(hut, JSON.parse('{"__proto__":1}'), JSON.parse('{"__proto__":{"polluted":2}}'));
  expect(({} as any).polluted).toBeUndefined();
  restoreSnapshot(cache, {
    format: "cista-snapshot",
    version: 1,
    takenAt: 0,
    entries: Array.from({ length: 50 }, (_, n) => ({ ...good, params: n + 10 })),
  });
  expect([...entriesOf(cache)].length).toBeLessThanOrEqual(3);
  expect(events.filter(({ kind }) => kind === "restore").length).toBeLessThanOrEqual(4);
  expect(events.find(({ kind }) => kind === "warning")?.note).toContain("47 entries over the capacity");
  const waiting = stage({ capacity: 3 }); // also where they come one by one, and wait for their source
  for (let n = 0; n < 5; n++) {
    restoreSnapshot(waiting.cache, {
      format: "cista-snapshot",
      version: 1,
      takenAt: 0,
      entries: [{ ...good, params: n }],
    });
  }
  waiting.cache.peek(hut, 99);
  expect(waiting.events.filter(({ kind }) => kind === "restore")).toHaveLength(3);
});

test("property: any JSON as an entry neither throws nor takes the rest with it", () => {
  const member = fc.oneof(fc.jsonValue(), fc.double(), fc.constant(undefined));
  const entry = fc.record(
    Object.fromEntries(Object.keys(good).map((name) => [name, fc.oneof(fc.constant((good as any)[name]), member)])),
  );
  fc.assert(
    fc.property(fc.array(fc.oneof(entry, fc.anything())), (entries) => {
      const { cache } = stage();
      cache.peek(hut, 0);
      restoreSnapshot(cache, {
        format: "cista-snapshot",
        version: 1,
        takenAt: 0,
        entries: [...entries, { ...good, params: "last" }],
      });
      expect(cache.peek(hut, "last").value).toBe("good");
      for (const info of entriesOf(cache)) expect(Number.isNaN(info.staleAt)).toBe(false);
      cache.dispose();
    }),
    { numRuns: 300 },
  );
});

test("the recorder writes the journal a line an event, failures without their causes", async () => {
  const { cache } = stage();
  const { text, stop } = recordJournal(journalOf(cache));
  const broken = source({
    name: "broken",
    retry: false,
    load: async () => Promise.reject(new Error("no", { cause: "secret" })),
  });
  await cache.read(broken).catch(() => {});
  stop();
  cache.peek(hut, 1);
  await cache.read(hut, 1);
  const lines = text()
    .trimEnd()
    .split("\n")
    .map((line) => JSON.parse(line));
  expect(lines.map(({ kind }) => kind)).toEqual(["read", "request", "failure"]);
  expect(lines[2]).toMatchObject({
    seq: 3,
    key: "broken",
    cause: "read",
    failure: { kind: "load", message: "no", attempts: 1 },
  });
  expect(text()).not.toContain("secret");
});

test("N1: a listener of the journal is told of the kinds that it names", async () => {
  const cache = createCache({ clock: virtualClock() });
  const kept: string[] = [];
  const all: string[] = [];
  const stop = journalOf(cache).subscribe(({ seq, kind }) => kept.push(`${seq} ${kind}`), ["put", "invalidate"]);
  await cache.read(hut, 1);
  cache.put(hut, 1, "another");
  const stopAll = journalOf(cache).subscribe(({ seq, kind }) => all.push(`${seq} ${kind}`));
  await cache.read(hut, 1);
  cache.invalidate("all");
  stopAll();
  await cache.read(hut, 1);
  cache.put(hut, 1, "a third");
  stop();
  cache.put(hut, 1, "heard by nobody");
  expect(kept).toEqual(["1 put", "3 invalidate", "4 put"]);
  expect(all).toEqual(["2 read", "3 invalidate"]);
});
