import { Failure, source, write } from "cista";
import { expect, test, vi } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

/** A write that ends only when the test says so; it adds its input to the lists of the entries named. */
function heldWrite(on: ReturnType<typeof heldSource>["source"], definition: object = {}) {
  const sent: { input: any; context: any; answer(result?: unknown): void; fail(thrown: unknown): void }[] = [];
  const add = write<any, unknown>({
    name: "add",
    timeout: Number.POSITIVE_INFINITY,
    send: (input, context) =>
      new Promise((answer, fail) => sent.push({ input, context, answer: answer as never, fail })),
    optimistic: (input, edit) => edit.at(on).patch((list: any) => (list.includes(input) ? list : [...list, input])),
    ...definition,
  });
  return { add, sent };
}

/** A watched list with something in it. */
async function shownList(definition: object = {}, options: object = {}) {
  const it = stage(options);
  const list = heldSource("list", { maxAge: "1h" });
  const { add, sent } = heldWrite(list.source, definition);
  const watched = watch(it.cache, list.source);
  list.loads[0]?.answer(["a"]);
  await it.clock.advance(0);
  const ignore = () => {};
  const run = (input: string, more?: object) => {
    const promise = it.cache.run(add, input, more);
    promise.catch(ignore);
    return promise;
  };
  const shown = () => inShort(watched.view.get());
  const pending = () => (watched.view.get() as any).pendingWrites;
  watched.seen.length = 0;
  return { ...it, ...watched, list, add, sent, run, shown, pending };
}

test("W2: a confirmed layer stays until an answer begun after its write ended", async () => {
  const { run, sent, list, seen, clock, pending, view } = await shownList();
  const result = run("b");
  expect(seen).toEqual(['ready ["a","b"]']);
  expect(pending()).toBe(1);
  sent[0]?.answer("done");
  expect(await result).toBe("done");
  await clock.advance(0);
  expect(seen.at(-1)).toBe('ready ["a","b"] stale running');
  expect(pending()).toBe(0);
  const before = view.get().value;
  list.loads[1]?.answer(["a", "b"]);
  await clock.advance(0);
  expect(seen).toEqual(['ready ["a","b"]', 'ready ["a","b"] stale running', 'ready ["a","b"]']);
  expect(view.get().value).toBe(before); // the same object: nothing was rendered for it
});

test("W1: of three at once the second is refused: exactly that is taken back", async () => {
  const { run, sent, list, seen, clock, kinds, events } = await shownList();
  const runs = ["b", "c", "d"].map((input) => run(input));
  const refusal = new Failure("http", "full", { status: 409 });
  sent[1]?.fail(refusal);
  await expect(runs[1]).rejects.toBe(refusal);
  expect(seen.at(-1)).toBe('ready ["a","b","d"]');
  sent[0]?.answer();
  await clock.advance(0);
  expect(list.loads).toHaveLength(1); // the third is not settled
  sent[2]?.answer();
  await clock.advance(0);
  expect(list.loads).toHaveLength(2);
  list.loads[1]?.answer(["a", "b", "d"]);
  await clock.advance(0);
  expect(seen.at(-1)).toBe('ready ["a","b","d"]');
  expect(seen.map((each) => each.slice(6).replace(/ stale.*/, ""))).toEqual([
    '["a","b"]',
    '["a","b","c"]',
    '["a","b","c","d"]',
    '["a","b","d"]',
    ...Array(seen.length - 4).fill('["a","b","d"]'),
  ]);
  expect(kinds().filter((kind) => /write|settle|layer/.test(kind))).toHaveLength(12);
  expect(events.find(({ kind, cause }) => kind === "request" && cause === "invalidated")).toMatchObject({
    write: "add",
  });
});

test("R2: a read under way when the write ends does not bring the old value back", async () => {
  const { run, sent, list, view, seen, clock } = await shownList();
  void view.revalidate();
  void run("b");
  sent[0]?.answer();
  await clock.advance(0);
  list.loads[1]?.answer(["a"]); // begun before
  await clock.advance(0);
  list.loads[2]?.answer(["a", "b", "x"]);
  await clock.advance(0);
  expect(seen.every((shown) => shown.includes('"b"') || shown === 'ready ["a"] running')).toBe(true);
  expect(seen.at(-1)).toBe('ready ["a","b","x"]');
});

test("W2: an answer from before the write that comes after it is shown with the change", async () => {
  const { cache, clock } = stage();
  const { source: list, loads } = heldSource("list", { maxAge: "1h" });
  const { add, sent } = heldWrite(list);
  cache.prefetch(list);
  void cache.run(add, "b");
  sent[0]?.answer();
  await clock.advance(0);
  const { seen } = watch(cache, list);
  loads[0]?.answer(["a"]);
  await clock.advance(0);
  loads[1]?.answer(["a", "b", "c"]);
  await clock.advance(0);
  expect(seen).toEqual(['ready ["a","b"] stale running', 'ready ["a","b","c"]']);
});

test("W2: a write without an answer is taken back, and its entries are asked about", async () => {
  const { run, sent, list, shown, clock } = await shownList({ timeout: "5s" });
  const lost = run("b");
  sent[0]?.fail(new Failure("network", "cut"));
  await expect(lost).rejects.toMatchObject({ kind: "network", attempts: 1 });
  expect(shown()).toBe('ready ["a"] stale running');
  list.loads[1]?.answer(["a", "b"]); // it had worked
  await clock.advance(0);
  expect(shown()).toBe('ready ["a","b"]');
  const late = run("c");
  await clock.advance("5s");
  await expect(late).rejects.toMatchObject({ kind: "timeout" });
  expect(sent[1]?.context.signal.aborted).toBe(true);
  expect(list.loads).toHaveLength(3);
});

test("W2: a write that an earlier try may have done is asked about, with any result of the last try", async () => {
  const { run, sent, shown, clock } = await shownList({ retry: { times: 1, firstPause: "1s", longestPause: "1s" } });
  const lost = run("b");
  sent[0]?.fail(new Failure("network", "cut"));
  await clock.advance("2s");
  sent[1]?.fail(new Failure("http", "refused", { status: 409 }));
  await expect(lost).rejects.toMatchObject({ kind: "http", status: 409 });
  expect(shown()).toBe('ready ["a"] stale running');
});

test.each([
  [502, "stale"],
  [503, undefined],
])("W2: after %i nobody knows whether the write has worked: %s", async (status, standing) => {
  const { run, sent, shown } = await shownList();
  const refused = run("b");
  sent[0]?.fail(new Failure("http", "no", { status }));
  await expect(refused).rejects.toMatchObject({ status });
  expect(shown()).toBe(standing ? 'ready ["a"] stale running' : 'ready ["a"]');
});

test.each<[string, (input: unknown, result: any) => object, string]>([
  ["the entries are invalidated", () => ({ key: "list" }), 'ready ["a"] stale running'],
  ["nothing is, and no error told, where it needs the result", (_, { key }) => ({ key }), 'ready ["a"]'],
])(
  "W2: where nobody knows whether a write has worked, its invalidates is called without a result: %s",
  async (_, invalidates, then) => {
    const onFailure = vi.fn();
    const { run, sent, shown, cache } = await shownList({ optimistic: undefined, invalidates });
    cache.onFailure(onFailure);
    const lost = run("b");
    sent[0]?.fail(new Failure("network", "cut"));
    await expect(lost).rejects.toMatchObject({ kind: "network" });
    expect(shown()).toBe(then);
    expect(onFailure).toHaveBeenCalledTimes(1);
  },
);

test("W2: a value that onSuccess puts needs no request, and lifts the layer in the same go", async () => {
  const put = (result: any, _: unknown, cache: any) => cache.put(list, undefined, result);
  const { source: list, loads } = heldSource("list", { maxAge: "1h" });
  const { cache, clock } = stage();
  const { add, sent } = heldWrite(list, { onSuccess: put });
  const { seen } = watch(cache, list);
  loads[0]?.answer(["a"]);
  await clock.advance(0);
  void cache.run(add, "b");
  sent[0]?.answer(["a", "B, as the server has it"]);
  await clock.advance(0);
  expect(seen).toEqual(['ready ["a"]', 'ready ["a","b"]', 'ready ["a","B, as the server has it"]']);
  expect(loads).toHaveLength(1);
});

test("W1: no trigger asks about an entry that a write is changing; a request by hand does", async () => {
  const { cache, clock, environment } = stage();
  const { source: list, loads } = heldSource("list", {
    maxAge: "10s",
    staleWhileRevalidate: "10s",
    revalidateEvery: "30s",
  });
  const { add, sent } = heldWrite(list);
  const { view } = watch(cache, list);
  loads[0]?.answer(["a"]);
  await clock.advance(0);
  const first = cache.run(add, "b");
  first.catch(() => {});
  await clock.advance("1m");
  environment.set({ visible: false });
  environment.set({ visible: true });
  cache.invalidate("all");
  watch(cache, list);
  await clock.advance("1m");
  expect(loads).toHaveLength(1);
  expect(inShort(view.get())).toBe('ready ["a","b"] stale');
  void view.revalidate();
  expect(loads).toHaveLength(2);
  loads[1]?.answer(["a", "x"]);
  await clock.advance("1m");
  expect(inShort(view.get())).toBe('ready ["a","x","b"] stale');
  sent[0]?.fail(new Failure("http", "no", { status: 409 }));
  await clock.advance(0);
  expect(loads).toHaveLength(3);
  expect(inShort(view.get())).toBe('ready ["a","x"] stale running');
});

test("W1: a value that expired while the page was hidden is asked for when it is visible again, also during a write", async () => {
  const { cache, clock, environment } = stage();
  const list = heldSource("list", { maxAge: "1m", staleWhileRevalidate: 0 });
  cache.put(list.source, undefined, ["a"]);
  const { view } = watch(cache, list.source);
  environment.set({ visible: false });
  await clock.advance("2m");
  cache.run(heldWrite(list.source).add, "b").catch(() => {});
  environment.set({ visible: true });
  expect(inShort(view.get())).toContain("loading");
  list.loads[0]?.answer(["a"]);
  await clock.advance(0);
  expect(view.get().value).toEqual(["a", "b"]);
});

test("W1: a layer whose change throws is dropped, and the run goes on", async () => {
  const reported = vi.spyOn(console, "error").mockImplementation(() => {});
  const { run, shown, events, sent } = await shownList({
    optimistic: (input: string, edit: any) => {
      edit.at(list()).patch(() => {
        if (input === "throws") throw new Error("does not fit");
        return undefined;
      });
      throw new Error("and optimistic fails too");
    },
    onSuccess: () => {
      throw new Error("settle fails");
    },
    invalidates: () => "nonsense",
  });
  function list() {
    return listSource;
  }
  const listSource = source<void, any>({ name: "other", load: async () => [] });
  void run("throws");
  const second = run("nothing");
  expect(shown()).toBe('ready ["a"]');
  sent[1]?.answer(7);
  expect(await second).toBe(7);
  expect(events.filter(({ kind }) => kind === "settle")).toHaveLength(1);
  expect(reported).toHaveBeenCalled();
  reported.mockRestore();

  const other = await shownList({
    optimistic: (_: unknown, edit: any) =>
      edit.at(other.list.source).patch(() => {
        throw new Error("does not fit");
      }),
  });
  const quiet = vi.spyOn(console, "error").mockImplementation(() => {});
  void other.run("b");
  expect(other.shown()).toBe('ready ["a"]');
  expect(other.events.find(({ kind }) => kind === "warning")).toMatchObject({ write: "add", key: "list" });
  quiet.mockRestore();
});

test("W4: no retry unless asked for; one idempotency key for all tries", async () => {
  const once = await shownList();
  void once.run("b");
  once.sent[0]?.fail(new Failure("http", "busy", { status: 503 }));
  await once.clock.advance("1m");
  expect(once.sent).toHaveLength(1);

  const phases: string[] = [];
  const { run, sent, clock, shown } = await shownList({ retry: { times: 2, firstPause: "1s" } });
  const done = run("b", { onPhase: (phase: string) => phases.push(phase) });
  sent[0]?.fail(new Failure("http", "busy", { status: 503, retryAfter: 2000 }));
  await clock.advance("2s");
  expect(shown()).toBe('ready ["a","b"]');
  sent[1]?.answer("at last");
  expect(await done).toBe("at last");
  void run("c");
  const keys = sent.map(({ context }) => context.idempotencyKey);
  expect(keys[0]).toMatch(/^[0-9a-f]{32}$/);
  expect([keys[0] === keys[1], keys[1] === keys[2]]).toEqual([true, false]);
  expect(sent.map(({ context }) => context.attempt)).toEqual([1, 2, 1]);
  expect(phases).toEqual(["sending", "waiting", "sending"]);
});

test("lanes: one at a time, in order, with any result of the one before; other lanes go on", async () => {
  const { run, sent, clock } = await shownList({ lane: (input: string) => input.charAt(0) });
  for (const input of ["x1", "x2", "y1", "x3"]) void run(input);
  const went = () => sent.map(({ input }) => input);
  expect(went()).toEqual(["x1", "y1"]);
  sent[0]?.fail(new Failure("http", "no", { status: 409 }));
  await clock.advance(0);
  expect(went()).toEqual(["x1", "y1", "x2"]);
  sent[2]?.answer();
  await clock.advance(0);
  expect(went()).toEqual(["x1", "y1", "x2", "x3"]);
});

test("W4: offline, five wait in order and go out in order", async () => {
  const { run, sent, clock, environment, seen, shown } = await shownList();
  environment.set({ online: false });
  const phases: string[] = [];
  for (const input of ["b", "c", "d", "e", "f"])
    void run(input, { onPhase: (phase: string) => phases.push(`${input} ${phase}`) });
  expect(sent).toHaveLength(0);
  expect(shown()).toBe('ready ["a","b","c","d","e","f"]');
  expect(phases).toEqual(["b offline", "c offline", "d offline", "e offline", "f offline"]);
  environment.set({ online: true });
  environment.set({ online: false });
  environment.set({ online: true }); // while the first is under way
  void run("g");
  for (let index = 0; index < 6; index++) {
    expect(sent).toHaveLength(index + 1);
    if (index === 1) sent[index]?.fail(new Failure("http", "full", { status: 409 }));
    else sent[index]?.answer();
    await clock.advance(0);
  }
  expect(sent.map(({ input }) => input)).toEqual(["b", "c", "d", "e", "f", "g"]);
  const taken = seen.findIndex((each) => each.includes('"g"') && !each.includes('"c"'));
  expect(seen.slice(taken).some((each) => each.includes('"c"'))).toBe(false);
  expect(shown()).toBe('ready ["a","b","d","e","f","g"] stale running');
});

test("W1: aborted or disposed of in mid-write, no layer stays", async () => {
  const unhandled: unknown[] = [];
  const note = (reason: unknown) => unhandled.push(reason);
  process.on("unhandledRejection", note);
  const { cache, add, run, sent, list, shown, leave, clock } = await shownList();
  const stop = new AbortController();
  const aborted = run("b", { signal: stop.signal });
  stop.abort("enough");
  await expect(aborted).rejects.toBe("enough");
  expect(sent[0]?.context.signal.aborted).toBe(true);
  expect(shown()).toBe('ready ["a"] stale running'); // it may have worked
  list.loads[1]?.answer(["a"]);
  await clock.advance(0);

  leave();
  void run("c");
  await clock.advance("1h"); // kept for as long as it is under way
  expect(cache.peek(list.source)).toMatchObject({ value: ["a", "c"], pendingWrites: 1 });
  sent[1]?.answer();
  await clock.advance(0);
  expect(cache.peek(list.source)).toMatchObject({ value: ["a"], fresh: false, pendingWrites: 0 });

  void cache.run(add, "d");
  cache.dispose();
  expect(sent[2]?.context.signal.aborted).toBe(true);
  await new Promise(setImmediate); // it would have been told of by then
  expect(unhandled).toEqual([]);
  process.off("unhandledRejection", note);
});

test("W1: a layer that changes the value in place is refused, and the error names the write and the entry", async () => {
  const reported = vi.spyOn(console, "error").mockImplementation(() => {});
  const { run, shown, list } = await shownList({
    optimistic: (input: string, edit: any) =>
      edit.at(list.source).patch((now: string[]) => {
        now.push(input);
        return now;
      }),
  });
  run("b");
  expect(shown()).toBe('ready ["a"]');
  expect(String(reported.mock.calls[0]?.[0])).toMatch(
    /What the write "add" shows at once of list could not be made: .*not extensible/,
  );
  reported.mockRestore();
});

test("W1: optimistic is told its run's key: the one that send is given, and another for each run", async () => {
  const rows: string[] = [];
  const { run, sent } = await shownList({
    optimistic: (_: string, _edit: any, { idempotencyKey }: { idempotencyKey: string }) => {
      rows.push(idempotencyKey);
    },
  });
  run("b");
  run("c", { idempotencyKey: "given" });
  expect(rows).toEqual(sent.map(({ context }) => context.idempotencyKey));
  expect(rows[1]).toBe("given");
  expect(new Set(rows).size).toBe(2);
});

test("a value that is no write is refused with the kind expected", async () => {
  const { cache } = stage();
  await expect(cache.run({ name: "x", definition: {} } as any, 1)).rejects.toMatchObject({ code: "not-a-write" });
  expect(() => write({ name: "x" } as any)).toThrow('The write "x" needs a send function, but send is undefined.');
  expect(() => write({ name: "", send: async () => 1 })).toThrow(expect.objectContaining({ code: "invalid-write" }));
});

test("W1: an `optimistic` that is asynchronous can lay no layer once it has returned", async () => {
  const { cache, clock } = stage();
  const s = source({ name: "s", maxAge: "1h", load: async () => "held" });
  const { view } = watch(cache, s);
  await clock.advance(0);
  const failures = vi.fn();
  cache.onFailure(failures);
  const reported = vi.spyOn(console, "error").mockReturnValue(undefined);
  const late = write<void, void>({
    name: "late",
    send: async () => {},
    optimistic: async (_, edit) => {
      await null;
      edit.at(s).patch(() => "late");
    },
  });
  await cache.run(late);
  await clock.advance("1s");
  expect(view.get()).toMatchObject({ value: "held", pendingWrites: 0 });
  expect(String(reported.mock.calls[0]?.[0])).toContain("cannot be async");
  expect(failures.mock.calls[0]?.[1]).toMatchObject({ write: "late" });
  reported.mockRestore();
});

test("N1: a patch whose change patches the same entry is refused, and nothing is lost", () => {
  const { cache } = stage();
  const s = source({ name: "s", load: async () => ({ n: 0 }) });
  cache.put(s, undefined, { n: 0 });
  const entry = cache.at(s);
  expect(() =>
    entry.patch((value) => {
      entry.patch((inner) => ({ n: inner.n + 10 }));
      return { n: value.n + 1 };
    }),
  ).toThrow(expect.objectContaining({ code: "invalid-change" }));
  expect(entry.peek().value).toEqual({ n: 10 });
});
