import { createCache, entriesOf, Failure, source, write } from "cista";
import { origin, pagesFrom } from "cista/http";
import {
  Boundary,
  CistaProvider,
  Outcome,
  useDebounced,
  usePages,
  useReading,
  useReadings,
  useValues,
  useWrite,
} from "cista/react";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { act, type ReactNode, StrictMode, useState } from "react";
import { createRoot } from "react-dom/client";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { heldSource } from "./stage.js";
import { warningsLoaded } from "./warnings-loaded.js";

(globalThis as any).IS_REACT_ACT_ENVIRONMENT = true;

let clock: ReturnType<typeof virtualClock>;
let cache: ReturnType<typeof createCache>;
let page: HTMLElement;
let root: ReturnType<typeof createRoot>;
const troubles: unknown[] = [];
const note = (event: PromiseRejectionEvent) => troubles.push(event.reason);

beforeEach(() => {
  clock = virtualClock(1_000_000);
  cache = createCache({ clock, environment: virtualEnvironment() });
  page = document.body.appendChild(document.createElement("div"));
  root = createRoot(page);
  addEventListener("unhandledrejection", note);
});
afterEach(async () => {
  await act(() => root.unmount());
  await settle();
  expect([...entriesOf(cache)].filter(({ watchers }) => watchers > 0)).toEqual([]);
  cache.dispose();
  page.remove();
  removeEventListener("unhandledrejection", note);
  expect(troubles).toEqual([]);
});

const show = (tree: ReactNode) =>
  act(() =>
    root.render(
      <StrictMode>
        <CistaProvider cache={cache}>{tree}</CistaProvider>
      </StrictMode>,
    ),
  );
const settle = (by: number | string = 0) => act(() => clock.advance(by as number));
const press = (what: string) => act(async () => page.querySelector<HTMLElement>(what)?.click());

test("useReadings: as many keys as there are params, each asked for at once and let go when it goes", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
  let renders = 0;
  function Huts({ ids }: { ids: number[] }) {
    renders++;
    return (
      <p>
        {useReadings(
          hut,
          ids.map((id) => ({ id })),
        )
          .map(({ state, value }) => value ?? state)
          .join()}
      </p>
    );
  }
  await show(<Huts ids={[1, 2]} />);
  expect([page.textContent, loads.length]).toEqual(["loading,loading", 2]);
  loads[1]?.answer("two");
  await settle();
  await show(<Huts ids={[2, 3, 2]} />);
  await settle();
  expect([page.textContent, loads.length, loads[0]?.signal.aborted]).toEqual(["two,loading,two", 3, true]);
  loads[2]?.answer("three");
  await settle();
  expect(page.textContent).toBe("two,three,two");
  const before = renders;
  cache.invalidate(hut); // neither fresh nor request was looked at
  await settle();
  expect(renders).toBe(before);
  await show(<Huts ids={[]} />);
  expect(page.textContent).toBe("");
});

test("Outcome of several sources: their values once all are there, else what hinders them", async () => {
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

test("useValues: all are asked for at once; the failure of one is told before the others have come", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
  function Names({ ids }: { ids: number[] }) {
    return (
      <p>
        {useValues(
          hut,
          ids.map((id) => ({ id })),
        ).join()}
      </p>
    );
  }
  await show(
    <Boundary>
      <Names ids={[1, 2]} />
    </Boundary>,
  );
  await settle();
  expect([page.textContent, loads.length]).toEqual(["Loading…", 2]);
  loads[0]?.answer("one");
  await settle();
  loads[1]?.answer("two");
  await settle();
  await vi.waitFor(() => expect(page.textContent).toBe("one,two"));
  await show(
    <Boundary key="b">
      <Names ids={[3, 4]} />
    </Boundary>,
  );
  await settle();
  loads[2]?.fail(new Failure("http", "No hut.", { status: 500 }));
  await settle();
  await vi.waitFor(() => expect(page.textContent).toBe("Something went wrong. This could not be loaded.Try again"));
  loads[3]?.answer("four");
  await settle();
  await settle(2000);
});

/** Two rows, each with a button that takes it away. */
async function rows() {
  const { source: list } = heldSource("list", { maxAge: "1h" });
  cache.put(list, undefined, ["a", "b"]);
  const sent: { answer(): void; fail(thrown: unknown): void; signal: AbortSignal }[] = [];
  const remove = write<string, string>({
    name: "remove",
    send: (input, { signal }) =>
      new Promise((answer, fail) => sent.push({ answer: () => answer(input), fail, signal })),
    optimistic: (row, edit) => edit.at(list).patch((all) => all.filter((each: string) => each !== row)),
  });
  const outcomes: unknown[] = [];
  function Rows() {
    const { value = [] } = useReading(list);
    const [run, { phase, underWay, result, failure, reset, abort }] = useWrite(remove);
    const start = async (row: string) => outcomes.push((await run(row)).phase);
    return (
      <p>
        {[value.join(), phase, underWay, result, failure?.message].filter((each) => each !== undefined).join(" ")}
        <button type="button" id="a" onClick={() => start("a")} />
        <button type="button" id="b" onClick={() => start("b")} />
        <button type="reset" onClick={reset} />
        <button type="button" id="abort" onClick={abort} />
      </p>
    );
  }
  await show(<Rows />);
  return { sent, outcomes };
}

test("E1: of overlapping runs each has an outcome, and a refusal is told until it is put away", async () => {
  const { sent, outcomes } = await rows();
  await press("#a");
  await press("#b");
  expect(page.textContent).toBe(" sending 2");
  sent[0]?.fail(new Failure("http", "Refused.", { status: 409 }));
  await settle();
  expect(page.textContent).toBe("a sending 1 Refused.");
  sent[1]?.answer();
  await settle();
  expect([page.textContent, outcomes]).toEqual(["a failed 0 Refused.", ["failed", "done"]]);
  await press("[type=reset]");
  expect(page.textContent).toBe("a none 0");
});

test("E1: what is done after a failure was told puts it away; abort ends what is under way, silently", async () => {
  const { sent, outcomes } = await rows();
  await press("#a");
  sent[0]?.fail(new Failure("http", "Refused.", { status: 409 }));
  await settle();
  await press("#a");
  expect(page.textContent).toBe("b sending 1 Refused.");
  sent[1]?.answer();
  await settle();
  expect(page.textContent).toBe("b done 0 a");
  await press("#b");
  await press("#abort");
  expect([sent[2]?.signal.aborted, outcomes]).toEqual([true, ["failed", "done", "failed"]]);
  expect(page.textContent).toBe("b done 0 a");
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

test("a source that is defined in a render is refused the second time, and nothing runs on", async () => {
  const errors = vi.spyOn(console, "error").mockReturnValue();
  const warn = vi.spyOn(console, "warn").mockReturnValue();
  let loads = 0;
  let renders = 0;
  function Hut() {
    renders++;
    const hut = source({ name: "made", load: async () => ++loads });
    return <p>{useReading(hut).value}</p>;
  }
  const failed: any[] = [];
  await act(async () => root.unmount());
  root = createRoot(page, { onUncaughtError: (thrown: unknown) => failed.push(thrown) } as object);
  try {
    await show(<Hut />);
  } catch (thrown) {
    failed.push(thrown); // as React 18 tells it
  }
  await settle("1m");
  expect(failed[0]).toMatchObject({
    code: "source-in-render",
    message: expect.stringContaining('"made" is defined again each time'),
  });
  expect([loads < 3, renders < 10]).toEqual([true, true]);
  errors.mockRestore();
  warn.mockRestore();
});

test("usePages tells that a page is on its way and that it failed; loadNext never rejects", async () => {
  const answers: (() => Response)[] = [
    () => new Response('[{"id":1}]', { headers: { link: '</n?page=2>; rel="next"', "cache-control": "max-age=60" } }),
    () => new Response(null, { status: 404 }),
    () => new Response('[{"id":2}]'),
  ];
  const held: (() => void)[] = [];
  const fetch = () => new Promise<Response>((answer) => held.push(() => answer((answers.shift() as () => Response)())));
  const api = origin({ base: "https://huts.example", fetch: fetch as never });
  const notes = pagesFrom<void, { id: number }>(api, { name: "notes", url: "/n", retry: false });
  function Notes() {
    const { reading, next, previous, loadNext } = usePages(notes);
    return (
      <button type="button" onClick={loadNext}>
        {[reading.value?.count, next.exists, next.request, next.failure?.status, previous.exists].join(" ")}
      </button>
    );
  }
  const answered = async () => {
    await vi.waitFor(() => expect(held.length).toBeGreaterThan(0));
    await act(async () => held.shift()?.());
    await settle();
  };
  await show(<Notes />);
  await answered();
  await vi.waitFor(() => expect(page.textContent).toBe("1 true none  false"));
  await press("button");
  await vi.waitFor(() => expect(page.textContent).toBe("1 true running  false"));
  await answered();
  await vi.waitFor(() => expect(page.textContent).toBe("1 true none 404 false"));
  await press("button");
  await answered();
  await vi.waitFor(() => expect(page.textContent).toBe("2 false none  false"));
});

test("useDebounced: params count once they have stayed the same for a while", async () => {
  const { source: search, loads } = heldSource("search");
  let type: (text: string) => void = () => {};
  function Search() {
    const [text, setText] = useState("f");
    type = setText;
    return <p>{useReading(search, { text: useDebounced(text, "300ms") }).state}</p>;
  }
  await show(<Search />);
  for (const text of ["fe", "fer", "fern"]) {
    await act(() => type(text));
    await settle(200);
  }
  expect(loads.map(({ params }) => params.text)).toEqual(["f"]);
  await settle(100);
  expect(loads.map(({ params }) => params.text)).toEqual(["f", "fern"]);
});

test("useDebounced needs no provider, and takes what cannot be params", async () => {
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
  warn.mockRestore();
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
