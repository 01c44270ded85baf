import { answer, createCache, Failure, missing, type Reading, source, unchanged, write } from "cista";
import { CistaProvider, Outcome, useDebounced, useReading, useReadings, useWrite } from "cista/react";
import { virtualEnvironment } from "cista/rehearsal";
import { act, type FormEvent, memo, startTransition, useEffect, useState, version } from "react";
import { createRoot } from "react-dom/client";
import { expect, test, vi } from "vitest";
import { cache, clock, page, press, settle, show } from "./react-stage.js";
import { heldSource } from "./stage.js";
import { warningsLoaded } from "./warnings-loaded.js";

// React alone: the conformance suite tests all that every binding does.

test("N4: a hook of one's own that copies the reading, and props that are spread, follow every change", async () => {
  const { source: hut, loads } = heldSource("hut");
  const useHut = () => ({ ...useReading(hut), extra: 1 });
  const Row = ({ state, value }: Partial<Reading<unknown>>) => <b>{`${state} ${value}`}</b>;
  function Hut() {
    const { state, value, extra } = useHut();
    const { fresh, ...rest } = useReading(hut);
    return (
      <p>
        {`${state} ${value} ${extra} ${fresh} ${rest.request} `}
        <Row {...useReading(hut)} />
        {JSON.parse(JSON.stringify(useReading(hut))).state}
      </p>
    );
  }
  await show(<Hut />);
  expect(page.textContent).toBe("loading undefined 1 undefined running loading undefinedloading");
  await act(async () => loads[0]?.answer(7));
  expect(page.textContent).toBe("ready 7 1 true none ready 7ready");
});

test("N4: a memoized child that is given a reading renders when a member that the child looked at changes", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: "10s", params: false });
  let renders = 0;
  const Child = memo(function Child({ of }: { of: Reading<unknown> }) {
    renders++;
    return <u>{String(of.fresh)}</u>;
  });
  const Parent = () => <Child of={useReading(hut)} />;
  await show(<Parent />, false);
  loads[0]?.answer("Harebell");
  await settle();
  expect(page.textContent).toBe("true");
  renders = 0;
  await settle("30s");
  expect([page.textContent, renders]).toEqual(["false", 1]);
  await settle(0, () => void cache.view(hut).revalidate());
  expect(renders).toBe(1); // it has not looked at "request"
});

test("N4: a member that was looked at only while loading counts only while loading", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
  let renders = 0;
  function Hut() {
    renders++;
    const reading = useReading<any, any>(hut);
    return <i>{reading.state === "loading" ? reading.request : reading.value}</i>;
  }
  await show(<Hut />, false);
  expect(page.textContent).toBe("running");
  loads[0]?.answer("Harebell");
  await settle();
  renders = 0;
  await act(async () => void cache.view(hut).revalidate());
  expect(cache.view(hut).get().request).toBe("running");
  loads[1]?.answer("Harebell");
  await settle();
  expect([page.textContent, renders]).toEqual(["Harebell", 0]);
  await act(async () => void cache.delete({ source: hut }));
  expect(page.textContent).toBe("running");
});

test("R4: a carried value stays on the page while a reading of the former params is looked at", async () => {
  const { source: hut, loads } = heldSource("hut");
  const looked: unknown[] = [];
  function Hut({ id }: { id: number }) {
    const reading = useReading<any, any>(hut, id, { carryOver: true });
    // biome-ignore lint/correctness/useExhaustiveDependencies: its end looks at the reading of the former params
    useEffect(() => () => void looked.push(reading.value), [id]);
    return <i>{`${reading.value} ${reading.provisional}`}</i>;
  }
  await show(<Hut id={1} />, false);
  await act(async () => loads[0]?.answer("Harebell"));
  await show(<Hut id={2} />, false);
  expect([page.textContent, looked]).toEqual(["Harebell carried", ["Harebell"]]);
  await act(async () => loads[1]?.answer("Peat Hag"));
  expect(page.textContent).toBe("Peat Hag undefined");
});

test("N4: a render of the component's own has the newest reading", async () => {
  let version = 0;
  const hut = source({ name: "hut", maxAge: "1h", load: async () => (version++ ? unchanged() : answer("Harebell")) });
  let look: (at: boolean) => void = () => {};
  function Hut() {
    const [whole, setWhole] = useState(false);
    look = setWhole;
    const reading = useReading<any, any>(hut);
    return <i>{whole ? `${reading.value} ${reading.asOf}` : reading.value}</i>;
  }
  await show(<Hut />, false);
  await settle();
  await settle("10s");
  await act(async () => void (await cache.view(hut).revalidate()));
  await act(async () => look(true));
  expect(page.textContent).toBe("Harebell 1010000");
});

test("N4: a reading that is only looked at in an event handler is the newest", async () => {
  const { source: hut } = heldSource("hut", { maxAge: "1h", params: false });
  cache.put(hut, undefined, { water: 1 });
  const looked: unknown[] = [];
  let renders = 0;
  function Hut() {
    renders++;
    const whole = useReading(hut);
    const part = useReading(hut, undefined, { pick: ({ water }) => water });
    return <button type="button" onClick={() => looked.push(whole.value?.water, part.value)} />;
  }
  await show(<Hut />);
  const before = renders;
  await act(async () => cache.put(hut, undefined, { water: 2 }));
  expect(renders).toBe(before);
  await press("button");
  expect(looked).toEqual([2, 2]);
});

test("Outcome: each branch as an element or a function", async () => {
  const { source: hut, loads } = heldSource("hut");
  function Hut() {
    const reading = useReading(hut, { id: 1 });
    return (
      <Outcome
        of={reading}
        loading={({ request }) => <i>wait: {request}</i>}
        missing={<i>none</i>}
        failed={({ kind }, again) => <button onClick={again}>{kind}</button>}
      >
        {(value) => <i>{String(value)}</i>}
      </Outcome>
    );
  }
  await show(<Hut />);
  expect(page.textContent).toBe("wait: running");
  loads[0]?.answer(undefined); // a load that forgot its return
  await settle();
  expect(page.textContent).toBe("no-value");
  await act(() => page.querySelector("button")?.click());
  loads[1]?.answer(missing());
  await settle();
  expect(page.textContent).toBe("none");
});

test("Outcome of several sources: their values once all are there, else the wait or the failure", async () => {
  const { source: hut, loads } = heldSource("hut");
  const { source: weather, loads: skies } = heldSource("weather");
  function Both() {
    return (
      <Outcome of={useReadings([[hut, { id: 1 }], [weather]])}>{([name, sky]) => <p>{`${name}: ${sky}`}</p>}</Outcome>
    );
  }
  await show(<Both />);
  loads[0]?.answer("Harebell");
  await settle();
  expect(page.textContent).toBe("Loading…");
  skies[0]?.fail(new Failure("http", "No sky.", { status: 503 }));
  await settle();
  expect(page.textContent).toBe("Something went wrong. This could not be loaded.Try again");
  await press("button");
  skies[1]?.answer("fog");
  await settle();
  expect(page.textContent).toBe("Harebell: fog");
});

/** A list, and a form that adds to it. */
async function form() {
  const { source: list } = heldSource("list", { maxAge: "1h" });
  cache.put(list, undefined, ["a"]);
  const sent: { answer(result: unknown): void; signal: AbortSignal }[] = [];
  const add = write<string, unknown>({
    name: "add",
    send: (_, { signal }) => new Promise((answer) => sent.push({ answer, signal })),
    optimistic: (input, edit) => edit.at(list).patch((all: any) => [...all, input]),
  });
  const outcomes: string[] = [];
  function Form() {
    const { value, pendingWrites } = useReading(list);
    const [run, { phase, underWay, result, abort }] = useWrite(add);
    const start = async () => void outcomes.push((await run("b")).phase);
    // As each version of React has it.
    const submit = version.startsWith("18.")
      ? { onSubmit: (event: FormEvent) => [event.preventDefault(), start()] }
      : { action: () => void start() };
    return (
      <form {...submit}>
        {[value, `(${pendingWrites})`, phase, underWay, result].join(" ")}
        <button type="button" id="transition" onClick={() => startTransition(start)} />
        <button type="button" id="abort" onClick={abort} />
        <input type="submit" />
      </form>
    );
  }
  await show(<Form />);
  return { sent, outcomes };
}

test.each(["#transition", "input"])("W1: a write run by %s shows its change at once", async (how) => {
  const { sent, outcomes } = await form();
  await press(how);
  expect(page.textContent).toMatch(/^a,b \(1\)/); // React holds back the run's own state until a transition has ended
  await settle(0, () => sent[0]?.answer("stored"));
  expect([page.textContent, outcomes]).toEqual(["a,b (0) done 0 stored", ["done"]]);
});

test("E1: abort ends the runs under way, and the phase is that of before", async () => {
  const { sent, outcomes } = await form();
  await press("input");
  expect(page.textContent).toBe("a,b (1) sending 1 ");
  await press("#abort");
  expect([page.textContent, sent[0]?.signal.aborted, outcomes]).toEqual(["a (0) none 0 ", true, ["failed"]]);
});

test("useDebounced needs no provider, and takes values that cannot be params", async () => {
  vi.useFakeTimers({ toFake: ["setTimeout", "clearTimeout"] });
  const seen: unknown[] = [];
  let set: (value: unknown) => void = () => {};
  function Choice() {
    const [value, choose] = useState<unknown>(() => new Map([[1, 1]]));
    set = (next) => choose(() => next);
    seen.push(useDebounced(value, 100));
    return null;
  }
  const element = document.createElement("div");
  const bare = createRoot(element);
  await act(async () => bare.render(<Choice />));
  const later = new Map([[2, 2]]);
  await act(async () => set(later));
  expect(seen).not.toContain(later);
  await act(async () => vi.advanceTimersByTime(100));
  expect(seen.at(-1)).toBe(later);
  await act(async () => bare.unmount());
  vi.useRealTimers();
});

test("{ cache } is read and written instead of the provider's", async () => {
  const other = createCache({ clock, environment: virtualEnvironment() });
  let stored = "Skerrow";
  const hut = source({ name: "hut", load: async () => stored });
  const rename = write({
    name: "rename",
    send: async (name: string) => (stored = name),
    optimistic: (name, edit) => edit.at(hut).patch(() => name),
  });
  function Hut() {
    const { value } = useReading(hut, undefined, { cache: other });
    const [run] = useWrite(rename, { cache: other });
    return <button onClick={() => void run("Lower Skerrow")}>{value}</button>;
  }
  await show(<Hut />);
  expect(page.textContent).toBe("Skerrow");
  await press("button");
  expect([page.textContent, cache.peek(hut).state]).toEqual(["Lower Skerrow", "empty"]);
  other.dispose();
});

test("a provider that is given another cache with each render is a warning, once; a change now and then is none", async () => {
  const warn = vi.spyOn(console, "warn").mockImplementation(() => {});
  const element = document.createElement("div");
  const bare = createRoot(element);
  const [first, second] = [createCache(), createCache()];
  for (const steady of [first, second, second, first, first]) {
    await act(async () => bare.render(<CistaProvider cache={steady}>x</CistaProvider>));
  }
  await warningsLoaded();
  expect(warn).not.toHaveBeenCalled();
  const renderAnother = () => act(async () => bare.render(<CistaProvider cache={createCache()}>x</CistaProvider>));
  await vi.waitFor(async () => {
    await renderAnother();
    expect(warn).toHaveBeenCalled();
  });
  for (let n = 0; n < 4; n++) await renderAnother();
  expect(warn).toHaveBeenCalledExactlyOnceWith(expect.stringContaining("is given another cache with each render"));
  await act(async () => bare.unmount());
});

test("a source that is defined in a render is refused the second time, and nothing runs on", async () => {
  for (const method of ["error", "warn"] as const) vi.spyOn(console, method).mockReturnValue();
  let loads = 0;
  let renders = 0;
  function Hut() {
    renders++;
    const hut = source({ name: "made", load: async () => ++loads });
    return <p>{useReading(hut).value}</p>;
  }
  const failed: any[] = [];
  const bare = createRoot(document.createElement("div"), {
    onUncaughtError: (thrown: unknown) => failed.push(thrown),
  } as object);
  const within = (
    <CistaProvider cache={cache}>
      <Hut />
    </CistaProvider>
  );
  try {
    await act(async () => bare.render(within));
  } catch (thrown) {
    failed.push(thrown); // as React 18 tells it
  }
  await settle("1m");
  expect(failed[0]).toMatchObject({
    code: "source-in-render",
    message: expect.stringContaining('"made" is defined again each time'),
  });
  expect([loads < 3, renders < 10]).toEqual([true, true]);
  await act(async () => bare.unmount());
});
