const said = new Set<string>();

/** Once about each thing. */
function warnOnce(about: string, text: string): void {
  if (said.has(about)) return;
  said.add(about);
  console.warn(`Cista: ${text}`);
}

/** So many times other params within two seconds are no choice of a person's. */
const many = 20;

/** Notices params that change on each render, a time stamp or a fresh random id among them: each render asks anew. */
class ParamsWatch {
  #key = "";
  #changes = 0;
  #since = 0;

  see(source: string, key: string): void {
    if (key === this.#key) return;
    const before = this.#key;
    this.#key = key;
    const now = performance.now();
    if (now - this.#since > 2000) {
      this.#since = now;
      this.#changes = 0;
    }
    if (++this.#changes < many) return;
    this.#changes = 0;
    warnOnce(
      source,
      `A component reads "${source}" with other params on each render (last ${before}, then ${key}): each is a request of its own. Keep what changes out of the params, or make it once outside of the render.`,
    );
  }
}

/** Two copies of the library do not see each other's providers. */
export function noticeCopies(): void {
  const mark = Symbol.for("cista.react.copies");
  const page = globalThis as { [mark]?: object };
  page[mark] ??= said;
  if (page[mark] === said) return;
  warnOnce(
    "copies",
    "This page has two copies of cista/react: components of one do not see the provider of the other. Have your bundler keep one (npm ls cista shows who brings them).",
  );
}

const watches = new WeakMap<object, ParamsWatch>();

interface SeenCache {
  readonly cache: WeakRef<object>;
  /** In so many renders one after the other it was another one. */
  readonly changes: number;
}
const caches = new WeakMap<object, SeenCache>();

/** A provider whose cache is another one with each render empties the page each time, and asks for all of it anew. */
export function sawCache(provider: object, cache: object): void {
  const before = caches.get(provider);
  const isSame = before === undefined || before.cache.deref() === cache;
  const changes = isSame ? 0 : before.changes + 1;
  caches.set(provider, { cache: new WeakRef(cache), changes });
  if (changes < 2) return;
  warnOnce(
    "cache of a render",
    "<CistaProvider cache={…}> is given another cache with each render: each is empty, and asks for all of it anew. Make it once, outside of components, or by useState(() => createCache()).",
  );
}

/** @param component whatever stays the same for one of its hooks */
export function sawParams(component: object, source: string, key: string): void {
  const watch = watches.get(component) ?? new ParamsWatch();
  watches.set(component, watch);
  watch.see(source, key);
}
