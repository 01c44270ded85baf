import { createCache, type Reading, source } from "cista";
import { CistaProvider, useCache, useReading } from "cista/react";
import { memo, type ReactNode, useRef, useState, useSyncExternalStore } from "react";
import { flushSync } from "react-dom";
import { createRoot, type Root } from "react-dom/client";

const count = 1000;
const all = Array.from({ length: count }, (_, id) => id);
const hut = source({ name: "hut", maxAge: "1h", load: async (_: number): Promise<number> => 0 });

// ── The same page twice: on the cache, and on plain React state handed down by the parent ──

const Read = memo(({ id }: { id: number }) => <i>{useReading(hut, id).value}</i>);
const Plain = memo(({ value }: { value: number }) => {
  const [shown] = useState(0); // each has a state of its own, as most components do
  return <i>{value + shown}</i>;
});

/** As little as there can be between a view and React: its own hook for stores. What `useReading` adds is all beyond this. */
const Bare = memo(({ id }: { id: number }) => {
  const cache = useCache();
  const ref = useRef<{ subscribe(listener: () => void): () => void; get(): Reading<number> }>(undefined);
  if (!ref.current) {
    const view = cache.view(hut, id);
    ref.current = { subscribe: (listener) => view.subscribe(listener), get: () => view.get() };
  }
  return <i>{useSyncExternalStore(ref.current.subscribe, ref.current.get).value}</i>;
});

const onCache = (keys: number) => readBy(Read, keys);
const onBareHook = (keys: number) => readBy(Bare, keys);

/** @param keys how many different ones the thousand components read */
function readBy(Component: typeof Read, keys: number): Side {
  const cache = createCache();
  for (let id = 0; id < keys; id++) cache.put(hut, id, 0);
  const page = (
    <CistaProvider cache={cache}>
      {all.map((id) => (
        <Component key={id} id={id % keys} />
      ))}
    </CistaProvider>
  );
  return { page, change: (value: number) => cache.put(hut, 0, value), end: () => cache.dispose() };
}

function onState(keys: number): Side {
  let set: (values: number[]) => void = () => {};
  let values = Array.from({ length: keys }, () => 0);
  // biome-ignore lint/correctness/noComponentHookFactories: made once for each side that is measured
  function Parent() {
    const [now, setNow] = useState(values);
    set = setNow;
    return all.map((id) => <Plain key={id} value={now[id % keys] as number} />);
  }
  const change = (value: number) => {
    values = [...values];
    values[0] = value;
    set(values);
  };
  return { page: <Parent />, change, end: () => {} };
}

// ── Measured in turns ──

interface Side {
  readonly page: ReactNode;
  change(value: number): void;
  end(): void;
}

const changes = 20;

async function round(make: (keys: number) => Side, keys: number): Promise<{ mount: number; change: number }> {
  const side = make(keys);
  const element = document.body.appendChild(document.createElement("div"));
  const root: Root = createRoot(element);
  const started = performance.now();
  flushSync(() => root.render(side.page));
  const mounted = performance.now();
  await new Promise((resolve) => setTimeout(resolve)); // effects: the components attach
  const before = performance.now();
  for (let value = 1; value <= changes; value++) flushSync(() => side.change(value));
  const changed = performance.now();
  if (element.textContent?.startsWith(String(changes)) !== true) throw new Error("the change did not reach the page");
  flushSync(() => root.unmount());
  element.remove();
  side.end();
  return { mount: mounted - started, change: (changed - before) / changes };
}

/** The mean of the middle half: the page's clock tells tenths of milliseconds, too coarse for a median. */
function middle(list: number[]): number {
  const half = [...list].sort((one, other) => one - other).slice(list.length >> 2, (list.length * 3) >> 2);
  return half.reduce((sum, each) => sum + each) / half.length;
}

/** The cache's time as a multiple of plain React's. @param bare without `useReading` */
async function ratios(keys: number, rounds: number, bare = false) {
  const times = { cache: [] as { mount: number; change: number }[], state: [] as { mount: number; change: number }[] };
  for (let n = 0; n < rounds + 5; n++) {
    const cache = await round(bare ? onBareHook : onCache, keys);
    const state = await round(onState, keys);
    if (n < 5) continue; // warming up
    times.cache.push(cache);
    times.state.push(state);
  }
  const ratio = (what: "mount" | "change") =>
    middle(times.cache.map((each) => each[what])) / middle(times.state.map((each) => each[what]));
  return { mount: ratio("mount"), change: ratio("change") };
}

Object.assign(window, { ratios });
