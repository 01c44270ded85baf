import { createCache, source } from "cista";
import { keep, leastRatioOf, ratioOf, ratioOfOnce } from "../measure.mjs";

const many = 10_000;
const hut = source({
  name: "hut",
  load: () => new Promise(() => {}),
  share: false,
  retain: Infinity,
  timeout: Infinity,
});

export async function notifyMany() {
  const cache = createCache();
  const view = cache.view(hut, 1, { when: false });
  let calls = 0;
  for (let n = 0; n < many; n++) view.subscribe(() => void calls++);
  const listeners = Array.from({ length: many }, () => () => void calls++);
  let value = 0;
  return ratioOf({
    baseline: () => {
      for (let i = 0; i < listeners.length; i++) listeners[i]();
      keep(calls);
    },
    subject: () => {
      cache.put(hut, 1, ++value);
      keep(calls);
    },
  });
}

const order = Array.from({ length: many }, (_, n) => (n * 7919) % many);

export function comeAndGo() {
  // One cache for all samples, and views that live on, as in a page: what the engine has made of code for objects that
  // are gone it throws away when it collects them, and the time to make it again would be most of what is measured.
  const cache = createCache();
  const views = [];
  const listeners = Array.from({ length: many }, () => () => {});
  return ratioOfOnce({
    baseline: {
      prepare: () => new Set(),
      work: (set) => {
        for (const listener of listeners) set.add(listener);
        for (const n of order) set.delete(listeners[n]);
        return set.size;
      },
    },
    subject: {
      prepare: () => {
        cache.put(hut, views.length, 1);
        views.push(cache.view(hut, views.length));
        return views.at(-1);
      },
      work: (view) => {
        const leave = listeners.map((listener) => view.subscribe(listener));
        for (const n of order) leave[n]();
        return leave.length;
      },
    },
  });
}

export async function collapsedReads() {
  const baseline = async () => {
    const promise = new Promise((resolve) => queueMicrotask(() => resolve(1)));
    const all = [];
    for (let n = 0; n < many; n++) all.push(wait(promise));
    await Promise.all(all);
  };
  const cache = createCache();
  const quick = source({ name: "quick", load: () => Promise.resolve(1), share: false, requestBudget: false });
  let id = 0;
  const subject = async () => {
    const params = ++id;
    const all = [];
    for (let n = 0; n < many; n++) all.push(wait(cache.read(quick, params)));
    await Promise.all(all);
    cache.delete({ source: quick, params });
  };
  return leastRatioOf({ baseline, subject });
}

async function wait(promise) {
  keep(await promise);
}
