import {
  answer,
  type Cache,
  CistaError,
  createCache,
  entriesOf,
  Failure,
  missing,
  type Reading,
  type Source,
  source,
  unchanged,
} from "cista";
import { CistaProvider, Outcome, useCache, useReading } from "cista/react";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { act, memo, type ReactNode, StrictMode, startTransition, useState } from "react";
import { createRoot, type Root } from "react-dom/client";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { heldSource } from "./stage.js";

(globalThis as any).IS_REACT_ACT_ENVIRONMENT = true;

let cache: Cache;
let clock: ReturnType<typeof virtualClock>;
let root: Root;
let page: HTMLElement;
const troubles: unknown[] = [];
const note = (event: Event) => troubles.push((event as PromiseRejectionEvent).reason ?? event);

beforeEach(() => {
  clock = virtualClock(1_000_000);
  cache = createCache({ clock, environment: virtualEnvironment() });
  page = document.createElement("div");
  document.body.append(page);
  root = createRoot(page);
  addEventListener("unhandledrejection", note);
});
afterEach(async () => {
  await act(() => root.unmount());
  page.remove();
  cache.dispose();
  removeEventListener("unhandledrejection", note);
  expect(clock.pendingTimers).toBe(0);
  expect(troubles.splice(0)).toEqual([]);
});

const show = (tree: ReactNode, strict = true) => {
  const within = <CistaProvider cache={cache}>{tree}</CistaProvider>;
  return act(() => root.render(strict ? <StrictMode>{within}</StrictMode> : within));
};
const settle = (by: number | string = 0) => act(() => clock.advance(by as number));

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

test("many components on one hut: one request, and all show it in the same frame", async () => {
  const { source: hut, loads } = heldSource("hut");
  function Name() {
    const reading = useReading(hut, { id: "h-07" });
    return <i>{reading.state === "ready" ? reading.value.name : "…"}</i>;
  }
  const frames: number[] = [];
  const observer = new MutationObserver(() =>
    frames.push(page.querySelectorAll("i").length - (page.textContent?.split("…").length ?? 1) + 1),
  );
  for (const count of [3, 1000]) {
    // biome-ignore lint/suspicious/noArrayIndexKey: they are all alike
    await show(Array.from({ length: count }, (_, n) => <Name key={`${count} ${n}`} />));
    observer.observe(page, { subtree: true, characterData: true, childList: true });
    expect(loads).toHaveLength(1);
    if (count === 3) {
      loads[0]?.answer({ name: "Harebell" });
      await settle();
    }
    observer.disconnect();
    expect(page.textContent).toBe("Harebell".repeat(count));
  }
  expect(frames).toEqual([3]); // from none to all, in one
});

test("R3: taken off while loading aborts; put back in one go does not (StrictMode)", async () => {
  const { source: hut, loads } = heldSource("hut");
  function Hut() {
    return <i>{useReading(hut, { id: 1 }).state}</i>;
  }
  await show(<Hut />);
  await settle();
  expect(loads.map(({ signal }) => signal.aborted)).toEqual([false]);
  await show(<Hut key="another" />);
  await settle();
  expect(loads.map(({ signal }) => signal.aborted)).toEqual([false]);
  await show(null);
  await settle();
  expect(loads.map(({ signal }) => signal.aborted)).toEqual([true]);
});

test("R4: when params change the old answer never reaches the component", async () => {
  const { source: hut, loads } = heldSource("hut");
  const shown: string[] = [];
  let choose: (id: number) => void = () => {};
  function Hut({ carryOver }: { carryOver: boolean }) {
    const [id, setId] = useState(0);
    choose = setId;
    const { state, value, provisional } = useReading(hut, { id }, { carryOver });
    shown.push([state, value, provisional].filter(Boolean).join(" "));
    return null;
  }
  for (const carryOver of [false, true]) {
    await show(null);
    cache.delete("all");
    loads.length = shown.length = 0;
    await show(<Hut key={String(carryOver)} carryOver={carryOver} />, false);
    loads[0]?.answer("hut 0");
    await settle();
    await act(() => choose(1));
    await act(() => choose(2));
    await settle();
    loads[1]?.answer("hut 1");
    loads[2]?.answer("hut 2");
    await settle();
    const between = carryOver ? "loading hut 0 carried" : "loading";
    expect([...new Set(shown)]).toEqual(
      ["loading", "ready hut 0", between, "ready hut 2"].filter((text, at, all) => all.indexOf(text) === at),
    );
    expect(loads.map(({ signal }) => signal.aborted)).toEqual([false, true, false]);
  }
});

test("N4: a component renders only for the members it has looked at", async () => {
  const answers = [answer({ water: 90 }, { maxAge: "10s" }), unchanged(), answer({ water: 90 }), answer({ water: 55 })];
  const hut = source<void, Promise<any>>({ name: "hut", load: async () => answers.shift() }) as Source<void, any>;
  const renders = { value: 0, lamp: 0, part: 0, child: 0 };
  const Child = memo(function Child({ of }: { of: { fresh?: boolean | undefined } }) {
    renders.child++;
    return <u>{String(of.fresh)}</u>;
  });
  function Value() {
    renders.value++;
    const reading = useReading(hut);
    return <i>{reading.state === "ready" ? reading.value.water : reading.state}</i>;
  }
  function Lamp() {
    renders.lamp++;
    const { request, fresh } = useReading(hut);
    return <b>{`${request} ${fresh}`}</b>;
  }
  function Part() {
    renders.part++;
    const reading = useReading(hut, undefined, { pick: ({ water }) => water > 80 });
    return <s>{String(reading.value)}</s>;
  }
  function Parent() {
    return <Child of={useReading(hut)} />;
  }
  await show([<Value key="v" />, <Lamp key="l" />, <Part key="p" />, <Parent key="c" />], false);
  await settle();
  expect(page.textContent).toBe("90none truetruetrue");
  const since = { ...renders };
  const more = () => {
    const rendered = Object.fromEntries(
      Object.entries(renders).map(([name, count]) => [name, count - (since as any)[name]]),
    );
    Object.assign(since, renders);
    return rendered;
  };
  await act(async () => void (await cache.view(hut).revalidate())); // 304
  expect(more()).toEqual({ value: 0, lamp: expect.any(Number), part: 0, child: 0 });
  await settle("30s");
  expect(page.textContent).toBe("90none falsetruefalse");
  expect(more()).toEqual({ value: 0, lamp: 1, part: 0, child: 1 });
  await act(async () => void (await cache.view(hut).revalidate())); // an equal value, fresh again
  expect(more()).toMatchObject({ value: 0, part: 0, child: 1 });
  await act(async () => void (await cache.view(hut).revalidate()));
  expect(page.textContent).toBe("55none truefalsetrue");
  expect(more()).toMatchObject({ value: 1, part: 1 });
});

test("what was looked at only while loading counts only while loading", async () => {
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

test("R4: carryOver carries over from other params only", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
  let choose: (id: number) => void = () => {};
  function Hut() {
    const [id, setId] = useState(1);
    choose = setId;
    const { state, value } = useReading<any, any>(hut, id, { carryOver: true });
    return <i>{`${state} ${value ?? ""}`}</i>;
  }
  await show(<Hut />);
  loads[0]?.answer("one");
  await settle();
  await act(async () => choose(2));
  expect(page.textContent).toBe("loading one");
  loads[1]?.answer("two");
  await settle();
  expect(page.textContent).toBe("ready two");
  await act(async () => void cache.delete({ source: hut, params: 2 }));
  expect(page.textContent).toBe("loading ");
});

test("N1: no committed frame has two versions of a value, also with a slow render", async () => {
  (globalThis as any).IS_REACT_ACT_ENVIRONMENT = false; // React's own scheduler, which gives way between components
  const count = source<void, Promise<number>>({ name: "count", load: async () => 0 });
  cache.put(count, undefined, 0);
  const Slow = memo(function Slow({ round: _ }: { round: number }) {
    const reading = useReading(count);
    for (const until = performance.now() + 2; performance.now() < until; ); // as a heavy component would
    return <i>{reading.value},</i>;
  });
  let begin: (round: number) => void = () => {};
  function Page() {
    const [round, setRound] = useState(0);
    begin = (next) => startTransition(() => setRound(next));
    return Array.from({ length: 12 }, (_, n) => (
      // biome-ignore lint/suspicious/noArrayIndexKey: they are all alike
      <Slow key={`${round} ${n}`} round={round} />
    ));
  }
  const frames = new Set<string>();
  const look = () => frames.add([...new Set(page.textContent?.split(",").filter(Boolean))].join(" and "));
  new MutationObserver(look).observe(page, { subtree: true, childList: true, characterData: true });
  root.render(
    <CistaProvider cache={cache}>
      <Page />
    </CistaProvider>,
  );
  let value = 0;
  const pause = () => new Promise((resolve) => setTimeout(resolve, 7));
  for (let round = 1; round <= 25; round++) {
    begin(round);
    for (let n = 0; n < 3; n++) {
      await pause(); // in the middle of the render
      cache.put(count, undefined, ++value);
    }
  }
  await vi.waitFor(() => expect(page.textContent).toBe(`${value},`.repeat(12)));
  expect([...frames].filter((frame) => frame.includes("and"))).toEqual([]);
  expect(frames.size).toBeGreaterThan(5);
  (globalThis as any).IS_REACT_ACT_ENVIRONMENT = true;
});

test("params not known yet: empty, and nothing is asked for", async () => {
  const { source: hut, loads } = heldSource("hut");
  function Hut({ id }: { id?: string | undefined }) {
    const reading = useReading(hut, id === undefined ? undefined : { id }, { carryOver: true });
    return <i>{reading.state}</i>;
  }
  await show(<Hut />);
  expect(page.textContent).toBe("empty");
  expect([loads.length, [...entriesOf(cache)].length]).toEqual([0, 0]);
  await show(<Hut id="h-07" />);
  expect(page.textContent).toBe("loading");
  expect(loads).toHaveLength(1);
  await show(<Hut />);
  expect(page.textContent).toBe("empty");
});

test("Outcome: what is left out gets a plain rendering, never a blank; trying again works", async () => {
  const { source: hut, loads } = heldSource("hut");
  function Hut() {
    return <Outcome of={useReading(hut, { id: 1 })}>{(value) => <i>{String(value)}</i>}</Outcome>;
  }
  await show(<Hut />);
  expect(page.querySelector("[role=status]")?.textContent).toBe("Loading…");
  loads[0]?.fail(
    new Failure("http", "https://huts.example answered 500", { status: 500, problem: { detail: "The mast is down." } }),
  );
  await settle();
  expect(page.querySelector("[role=alert] p")?.textContent).toBe("The mast is down.");
  await act(() => page.querySelector("button")?.click());
  expect(page.querySelector("[role=status]")?.textContent).toBe("Loading…");
  loads[1]?.answer(missing());
  await settle();
  expect(page.textContent).toBe("There is no such thing.");
  await act(() => void cache.view(hut, { id: 1 }).revalidate());
  loads[2]?.answer(0);
  await settle();
  expect(page.innerHTML).toBe("<i>0</i>");
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

test("without a provider: a CistaError that says what to wrap", async () => {
  function Lonely() {
    return <i>{String(useCache())}</i>;
  }
  const shown = () => act(() => root.render(<Lonely />));
  expect(shown).toThrow(CistaError);
  expect(shown).toThrow("<CistaProvider cache={cache}>");
});
