import { createCache, source } from "cista";
import { keep, ratioOf } from "../measure.mjs";

const entries = 1000;

/** Looking up is measured without reading the time, which P7 counts. */
const still = { now: () => 0, setTimer: () => 0, clearTimer: () => {}, random: () => 0 };

function stage(paramsOf, options = { clock: still }) {
  const cache = createCache(options);
  const hut = source({ name: "hut", load: async () => 1, share: false });
  for (let n = 0; n < entries; n++) cache.put(hut, paramsOf(n), n);
  return { cache, hut };
}

/** `map.get` of one and the same string, among as many. */
function mapOfStrings() {
  const keys = Array.from({ length: entries }, (_, n) => `hut {"id":"h-${n}"}`);
  const map = new Map(keys.map((key, n) => [key, { value: n }]));
  let turn = 0;
  return () => {
    turn = (turn + 7) % entries;
    keep(map.get(keys[turn]).value);
  };
}

export async function scalarLookup() {
  const { cache, hut } = stage((n) => `h-${n}`);
  const ids = Array.from({ length: entries }, (_, n) => `h-${n}`);
  let turn = 0;
  return ratioOf({
    baseline: mapOfStrings(),
    subject: () => {
      turn = (turn + 7) % entries;
      keep(cache.peek(hut, ids[turn]).value);
    },
  });
}

export async function objectLookup() {
  const { cache, hut } = stage((n) => ({ id: `h-${n}`, page: n % 3 }));
  const ids = Array.from({ length: entries }, (_, n) => `h-${n}`);
  let turn = 0;
  return ratioOf({
    baseline: mapOfStrings(),
    subject: () => {
      turn = (turn + 7) % entries;
      const id = ids[turn];
      const page = turn % 3;
      keep(cache.peek(hut, turn & 1 ? { id, page } : { page, id }).value);
    },
  });
}

export async function unchangedView() {
  const { cache, hut } = stage((n) => n);
  const view = cache.view(hut, 7);
  view.subscribe(() => {});
  return ratioOf({ baseline: mapOfStrings(), subject: () => keep(view.get().value) });
}

export async function syncHit() {
  const { cache, hut } = stage((n) => n, {});
  const settled = Promise.resolve(7);
  const baseline = async () => keep(await settled);
  return ratioOf({ baseline, subject: () => keep(cache.peek(hut, 7).value) });
}
