import { createCache, entriesOf, Failure, missing, source } from "cista";
import { Boundary, CistaProvider, useReading, useValue, useValues } from "cista/react";
import { act, Component, type ReactNode, Suspense, startTransition, useState } from "react";
import { beforeEach, expect, test, vi } from "vitest";
import { cache, clock, page, root, settle, show } from "./react-stage.js";
import { heldSource } from "./stage.js";
import { warningsLoaded } from "./warnings-loaded.js";

// Suspense: values that components wait for, and the boundary that shows what hinders them.

beforeEach(() => {
  vi.spyOn(console, "error").mockImplementation(() => {}); // React tells of what boundaries catch
});

function Value({ of, id }: { of: any; id?: number }) {
  return <i>{String(useValue<any, any>(of, id))}</i>;
}

test("a boundary without a key shows other params of its subtree after a failure, and asks for no failed entry by itself", async () => {
  const logged = vi.spyOn(console, "error").mockImplementation(() => {});
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
  const tree = (id: number) => (
    <Boundary
      loading="…"
      missing="none"
      failed={(failure, again) => (
        <button type="button" onClick={again}>
          {failure.key}
        </button>
      )}
    >
      <Value of={hut} id={id} />
    </Boundary>
  );
  await show(tree(1));
  await settle(0, () => loads[0]?.fail(new Failure("http", "answered 500")));
  expect(page.textContent).toBe("hut 1");
  logged.mockClear();
  for (let n = 0; n < 3; n++) await show(tree(1));
  await settle();
  expect([page.textContent, loads.length]).toEqual(["hut 1", 1]);
  expect(logged).not.toHaveBeenCalled();
  await show(tree(2));
  expect(page.textContent).toBe("…");
  await settle(0, () => loads[1]?.answer("Harebell"));
  expect(page.textContent).toBe("Harebell");
  await show(tree(1)); // asked for anew, as when it was first come upon
  // biome-ignore lint/performance/useDomNodeTextContent: what React hides does not count
  expect([page.innerText, loads.length]).toEqual(["…", 3]);
  await settle(0, () => loads[2]?.fail(new Failure("http", "answered 500")));
  await act(async () => page.querySelector("button")?.click());
  await settle(0, () => loads[3]?.answer(missing()));
  expect(page.textContent).toBe("none");
  await show(tree(2));
  expect([page.textContent, loads.length]).toEqual(["Harebell", 4]);
});

test("a boundary whose subtrees fail one after the other shows one of them, and asks for both again", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
  const tree = () => (
    <Boundary
      loading="…"
      failed={(failure, again) => (
        <button type="button" onClick={again}>
          {failure.key}
        </button>
      )}
    >
      <Value of={hut} id={1} />
      <Value of={hut} id={2} />
    </Boundary>
  );
  await show(tree());
  await settle();
  for (const load of [...loads]) await settle(0, () => load.fail(new Failure("http", "answered 500")));
  await settle(0, () => loads[1]?.fail(new Failure("http", "answered 500")));
  const asked = loads.length;
  await show(tree());
  await settle();
  expect([page.querySelectorAll("button").length, loads.length]).toEqual([1, asked]);
  await act(async () => page.querySelector("button")?.click());
  await settle();
  for (const load of loads.slice(asked)) await settle(0, () => load.answer("Harebell"));
  for (const load of loads.slice(asked)) await settle(0, () => load.answer("Harebell"));
  expect(page.textContent).toBe("HarebellHarebell");
});

test("plain renderings; an error that is no Failure goes on to the boundary above", async () => {
  class Above extends Component<{ children: ReactNode }> {
    override state = { message: "" };
    static getDerivedStateFromError({ message }: Error) {
      return { message };
    }
    override render() {
      return this.state.message || this.props.children;
    }
  }
  function Broken(): ReactNode {
    throw new Error("a mistake of the component's own");
  }
  const { source: hut, loads } = heldSource("hut");
  const plain = (
    <Boundary>
      <Value of={hut} id={1} />
    </Boundary>
  );
  await show(plain);
  expect(page.querySelector("[role=status]")?.textContent).toBe("Loading…");
  await settle(0, () => loads[0]?.fail(new Failure("http", "answered 500")));
  expect(page.querySelector("[role=alert]")?.textContent).toBe(
    "Something went wrong. This could not be loaded.Try again",
  );
  await show(
    <Above>
      <Boundary>
        <Broken />
      </Boundary>
    </Above>,
  );
  expect(page.textContent).toBe("a mistake of the component's own");
});

test("R4: in a transition the old value stays until the new one is there", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
  let choose: (id: number) => void = () => {};
  let renders = 0;
  function Hut() {
    const [id, setId] = useState(1);
    choose = (next) => startTransition(() => setId(next));
    const value = useValue<any, any>(hut, id);
    renders++;
    return <i>{value}</i>;
  }
  await show(
    <Boundary loading="…">
      <Hut />
    </Boundary>,
  );
  await settle(0, () => loads[0]?.answer("one"));
  await act(async () => choose(2));
  expect(page.textContent).toBe("one");
  await settle(0, () => loads[1]?.answer("two"));
  expect(page.textContent).toBe("two");
  renders = 0;
  await settle(0, () => void cache.revalidate("all"));
  await settle(0, () => loads[2]?.answer("two"));
  expect(loads).toHaveLength(3);
  expect(renders).toBe(0);
});

test("aborted while it waits: no watcher is left once the boundary has gone, or the grace is over", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
  const watchers = () => [...entriesOf(cache)].map((entry) => entry.watchers);
  await show(
    <Boundary loading="…">
      <Value of={hut} id={1} />
    </Boundary>,
  );
  await show(null);
  expect(watchers()).toEqual([0]);
  await show(
    <Suspense fallback="…">
      <Value of={hut} id={2} />
    </Suspense>,
  );
  await show(null);
  await settle(0, () => loads[1]?.answer("too late"));
  expect(watchers()).toEqual([0, 1]);
  await act(() => clock.advance(2000));
  expect(watchers()).toEqual([0, 0]);
});

test("N1: no frame has two versions of a shared value", async () => {
  const shared = source({ name: "shared", maxAge: "1h", load: async (): Promise<number> => 0 });
  cache.put(shared, undefined, 0);
  let rerender: (n: number) => void = () => {};
  function Slow({ n }: { n: number }) {
    const reading = useReading(shared);
    const until = performance.now() + 0.3;
    while (performance.now() < until);
    return <b data-n={n}>{reading.value}</b>;
  }
  function Page() {
    const [n, setN] = useState(0);
    rerender = (next) => startTransition(() => setN(next));
    return ["a", "b", "c", "d", "e", "f"].map((key) => <Slow key={key} n={n} />);
  }
  const torn: string[] = [];
  const look = () => {
    const versions = new Set([...page.querySelectorAll("b")].map((each) => each.textContent));
    if (versions.size > 1) torn.push([...versions].join("|"));
  };
  (globalThis as any).IS_REACT_ACT_ENVIRONMENT = false;
  root.render(
    <CistaProvider cache={cache}>
      <Page />
    </CistaProvider>,
  );
  const observer = new MutationObserver(look);
  observer.observe(page, { subtree: true, childList: true, characterData: true });
  const turns = new MessageChannel();
  const nextTurn = () =>
    new Promise<void>((resolve) => {
      turns.port1.onmessage = () => resolve();
      turns.port2.postMessage(0);
    });
  for (let run = 1; run <= 1000; run++) {
    rerender(run);
    for (let turn = run % 3; turn >= 0; turn--) await nextTurn();
    cache.put(shared, undefined, run);
    await nextTurn();
  }
  while (page.querySelector("b")?.textContent !== "1000") await nextTurn();
  (globalThis as any).IS_REACT_ACT_ENVIRONMENT = true;
  observer.disconnect();
  expect(torn).toEqual([]);
}, 60_000);

test("in development, once each: params that change on each render, two copies of the library", async () => {
  const warned = vi.spyOn(console, "warn").mockImplementation(() => {});
  const { source: hut } = heldSource("hut");
  let again: (n: number) => void = () => {};
  function Feeding() {
    const [n, setN] = useState(0);
    again = setN;
    return useReading<any, any, any>(hut, { at: n }).state;
  }
  await show(<Feeding />);
  await warningsLoaded();
  const now = vi.spyOn(performance, "now").mockReturnValue(performance.now()); // many in a short time, on any machine
  for (let n = 1; n < 60; n++) await act(async () => again(n));
  now.mockRestore();
  expect(
    warned.mock.calls.filter(([text]) => /with other params on each render \(last hut \{"at":\d+\}/.test(text)),
  ).toHaveLength(1);

  const mark = Symbol.for("cista.react.copies");
  const before = (globalThis as any)[mark];
  (globalThis as any)[mark] = {};
  await show(<p />);
  await show(<i />);
  (globalThis as any)[mark] = before;
  expect(warned.mock.calls.filter(([text]) => text.includes("two copies of cista/react"))).toHaveLength(1);
});

test("F3: an answer without a lifetime is shown, and asked for once", async () => {
  let renders = 0;
  const { source: hut, loads } = heldSource("hut", { maxAge: 0, mustRevalidate: true });
  const Counted = () => {
    renders++;
    return <Value of={hut} id={1} />;
  };
  await show(
    <Boundary loading="…">
      <Counted />
    </Boundary>,
  );
  await settle(0, () => loads[0]?.answer("no-cache"));
  await settle("1m");
  expect([page.textContent, loads.length]).toEqual(["no-cache", 1]);
  expect(renders).toBeLessThan(20);
});

test("F3: a component that shows something else waits for new params", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: 0 });
  const tree = (id: number) => (
    <Boundary loading="…">
      <Value of={hut} id={id} />
    </Boundary>
  );
  await show(tree(1));
  await settle(0, () => loads[0]?.answer("one"));
  await show(tree(2));
  expect(page.textContent).toContain("…");
  await settle(0, () => loads.at(-1)?.answer("two"));
  expect([page.textContent, loads.filter(({ params }) => params === 2).length]).toEqual(["two", 1]);
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

test("S3: a cache that is disposed of while a component waits ends the wait", async () => {
  const { source: hut } = heldSource("hut");
  const ended = createCache();
  await show(
    <CistaProvider cache={ended}>
      <Boundary loading="…">
        <Value of={hut} id={1} />
      </Boundary>
    </CistaProvider>,
  );
  expect(page.textContent).toBe("…");
  await expect(settle(0, () => ended.dispose())).rejects.toThrow("This cache has been disposed of");
});
