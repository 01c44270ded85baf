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

// ── Measured step by step ──

interface Side {
  readonly page: ReactNode;
  change(value: number): void;
  end(): void;
}

const sides: Record<string, (keys: number) => Side> = { cache: onCache, hook: onBareHook, state: onState };
const changes = 10;
const pause = () => new Promise((resolve) => setTimeout(resolve));

let side: Side;
let root: Root;
let element: HTMLElement;

const bench = {
  /** @param keys how many different ones the thousand components read */
  prepare(name: string, keys: number): void {
    side = (sides[name] as (keys: number) => Side)(keys);
    element = document.body.appendChild(document.createElement("div"));
    root = createRoot(element);
  },
  async mount(): Promise<void> {
    flushSync(() => root.render(side.page));
    await pause(); // effects: the components attach
  },
  change(): void {
    for (let value = 1; value <= changes; value++) flushSync(() => side.change(value));
    if (element.textContent?.startsWith(String(changes)) !== true) throw new Error("the change did not reach the page");
  },
  async unmount(): Promise<void> {
    flushSync(() => root.unmount());
    await pause(); // what nobody watches is released
  },
  end(): void {
    element.remove();
    side.end();
  },
};
Object.assign(window, { bench });
