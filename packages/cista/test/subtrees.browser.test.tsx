import { type Cache, createCache, entriesOf, source } from "cista";
import { Boundary, CistaProvider, useReading, useValue } from "cista/react";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import * as React from "react";
import { type ComponentType, type ReactNode, StrictMode, useState } from "react";
import type { Root } from "react-dom/client";
import Refresh from "react-refresh/runtime";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { heldSource } from "./stage.js";

// What React does to a subtree beside mounting it: hides it, shows it again, tries it again, puts new code in its place.

(globalThis as any).IS_REACT_ACT_ENVIRONMENT = true;
Refresh.injectIntoGlobalHook(window); // before the renderer is loaded
const { createRoot } = await import("react-dom/client");

let cache: Cache;
let clock: ReturnType<typeof virtualClock>;
let root: Root;
let page: HTMLElement;
beforeEach(() => {
  clock = virtualClock(1_000_000);
  cache = createCache({ clock, environment: virtualEnvironment() });
  page = document.body.appendChild(document.createElement("div"));
  root = createRoot(page);
});
afterEach(async () => {
  await React.act(() => root.unmount());
  page.remove();
  cache.dispose();
  vi.restoreAllMocks();
});

const show = (tree: ReactNode) =>
  React.act(async () =>
    root.render(
      <StrictMode>
        <CistaProvider cache={cache}>{tree}</CistaProvider>
      </StrictMode>,
    ),
  );
const settle = (change: () => void = () => {}) =>
  React.act(async () => {
    change();
    await clock.advance(0);
  });
// biome-ignore lint/performance/useDomNodeTextContent: what is hidden is still in the document
const shown = () => page.innerText;
const watchers = () => [...entriesOf(cache)].map((entry) => entry.watchers).join();

test.runIf("Activity" in React)(
  "hidden: nothing is asked for; shown again: the newest value at once, in one frame",
  async () => {
    const { Activity } = React as unknown as { Activity: ComponentType<{ mode: string; children: ReactNode }> };
    const { source: hut, loads } = heldSource("hut", { maxAge: 60 });
    const seen: string[] = [];
    function Hut() {
      const { state, value } = useReading<any, any>(hut, 1);
      return <i>{`${state} ${value}`}</i>;
    }
    const tree = (mode: string) => (
      <Activity mode={mode}>
        <Hut />
      </Activity>
    );
    await show(tree("hidden"));
    await settle();
    expect([loads.length, watchers()]).toEqual([0, "0"]);
    await show(tree("visible"));
    await settle(() => loads[0]?.answer("one"));
    expect([page.textContent, watchers()]).toEqual(["ready one", "1"]);

    await show(tree("hidden"));
    await settle();
    expect(watchers()).toBe("0");
    await settle(() => cache.put(hut, 1, "two"));
    const observer = new MutationObserver(() => seen.push(shown()));
    observer.observe(page, { subtree: true, characterData: true, childList: true, attributes: true });
    await show(tree("visible"));
    await settle();
    observer.disconnect();
    expect(seen.filter((text) => text.includes("one"))).toEqual([]);
    expect([shown(), watchers(), loads.length]).toEqual(["ready two", "1", 1]);
  },
);

test("R3: a subtree that Suspense hides keeps watching", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: 60 });
  const answerAll = ({ answer }: (typeof loads)[number], n: number) => void answer(`of ${n}`);
  let choose: (id: number) => void = () => {};
  function Kept() {
    return <i>{String(useReading<any, any>(hut, 0).value)}</i>;
  }
  function Chosen() {
    const [id, setId] = useState(1);
    choose = setId;
    return <b>{String(useValue<any, any>(hut, id))}</b>;
  }
  await show(
    <Boundary loading="…">
      <Kept />
      <Chosen />
    </Boundary>,
  );
  await settle(() => loads.forEach(answerAll));
  await settle(() => loads.forEach(answerAll));
  const asked = loads.length;
  await settle(() => choose(2));
  expect(shown()).toBe("…");
  await settle(() => cache.put(hut, 0, "newer"));
  await settle(() => loads[asked]?.answer("chosen"));
  expect(shown()).toBe("newerchosen");
  expect(loads).toHaveLength(asked + 1);
});

test("a transition that does not come to an end: the page goes on changing", async () => {
  const { source: hut } = heldSource("hut", { maxAge: 60 });
  for (const id of [1, 2]) cache.put(hut, id, `hut ${id}`);
  const never = new Promise(() => {});
  let choose: (id: number) => void = () => {};
  function Waits({ id }: { id: number }) {
    if (id === 2) throw never;
    return null;
  }
  function Hut() {
    const [id, setId] = useState(1);
    choose = (next) => React.startTransition(() => setId(next));
    const reading = useReading<any, any>(hut, id);
    return (
      <p>
        {reading.value}
        <Waits id={id} />
      </p>
    );
  }
  await show(
    <React.Suspense fallback="…">
      <Hut />
    </React.Suspense>,
  );
  await settle(() => choose(2));
  expect(shown()).toBe("hut 1");
  await settle(() => cache.put(hut, 1, "hut 1, mended"));
  expect(shown()).toBe("hut 1, mended");
});

test("Suspense tries again and again: the same promise, one request", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: 60 });
  let tries = 0;
  function Hut() {
    tries++;
    return <b>{String(useValue<any, any>(hut, 1))}</b>;
  }
  for (let n = 0; n < 20; n++) {
    await show(
      <Boundary loading={`… ${n}`}>
        <Hut />
      </Boundary>,
    );
    await settle(() => clock.advance(100));
  }
  expect(tries).toBeGreaterThanOrEqual(20);
  expect([shown(), loads.length, loads[0]?.signal.aborted]).toEqual(["… 19", 1, false]);
  await settle(() => loads[0]?.answer("Harebell"));
  expect(shown()).toBe("Harebell");
});

test("after a fast refresh a component keeps its entry", async () => {
  const warned = vi.spyOn(console, "warn").mockImplementation(() => {});
  const said = vi.spyOn(console, "error"); // React would, of a component told while another is rendered
  let loads = 0;
  const define = (text: string) =>
    source({ name: "hut", maxAge: "1h", load: async (id: number) => `${text} ${id} (${++loads})` });
  const [first, edited] = [define("hut"), define("hut, edited")];
  const version = (of: typeof first, mark: string) => {
    function Hut() {
      const [chosen] = useState(7);
      return <i>{`${mark} ${useReading<any, any>(of, chosen).value}`}</i>;
    }
    Refresh.register(Hut, "hut.tsx Hut");
    Refresh.setSignature(Hut, "useState useReading");
    return Hut;
  };
  const Hut = version(first, "A");
  await show(<Hut />);
  await settle();
  expect(shown()).toBe("A hut 7 (1)");
  version(first, "B");
  await React.act(async () => void Refresh.performReactRefresh());
  await settle();
  expect([shown(), watchers()]).toEqual(["B hut 7 (1)", "1"]);
  version(edited, "B");
  await React.act(async () => void Refresh.performReactRefresh());
  await settle();
  await settle();
  expect([shown(), watchers(), cache.peek(edited, 7).value]).toEqual(["B hut, edited 7 (2)", "1", "hut, edited 7 (2)"]);
  expect(said).not.toHaveBeenCalled();
  expect(warned.mock.calls.map(([text]) => text)).toEqual([expect.stringContaining('"hut"')]);
});
