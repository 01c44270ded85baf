import { createCache, source, write } from "cista";
import { openOutbox } from "cista/browser";
import { appendPage, origin, pagesFrom } from "cista/http";
import { growth, plain, roomy, turn } from "./growth.mjs";

// As growth.mjs, for what polls, waits in a store, or comes over HTTP.

const quiet = { visible: true, online: true, subscribe: () => () => {} };
const everyHour = (nth) => ({ revalidateEvery: 3_600_000 + nth });

/** Views of one entry that poll it, each with an interval of its own: they come. */
export const intervalsCome = () => intervals((views) => () => void views.map((view) => view.subscribe(() => {})));

/** … and go, the first first. */
export const intervalsGo = () =>
  intervals((views) => {
    const leaves = views.map((view) => view.subscribe(() => {}));
    return () => {
      for (const leave of leaves) leave();
    };
  });

/** … whose intervals are functions: how often these are called, for ten times as many. */
export async function intervalFunctions() {
  const callsFor = async (count) => {
    const { cache, hut } = polled();
    let calls = 0;
    const revalidateEvery = (nth) => () => {
      calls++;
      return 3_600_000 + nth;
    };
    const views = Array.from({ length: count }, (_, nth) =>
      cache.view(hut, undefined, { revalidateEvery: revalidateEvery(nth) }),
    );
    const leaves = views.map((view) => view.subscribe(() => {}));
    cache.put(hut, undefined, 2);
    await turn();
    for (const leave of leaves) leave();
    return calls;
  };
  return (await callsFor(2000)) / (await callsFor(200));
}

function intervals(prepare) {
  return growth(20_000, async (count) => {
    const { cache, hut } = polled();
    return prepare(Array.from({ length: count }, (_, nth) => cache.view(hut, undefined, everyHour(nth))));
  });
}

function polled() {
  const cache = roomy();
  const hut = source({ ...plain, name: "hut", load: async () => 1 });
  cache.put(hut, undefined, 1);
  return { cache, hut };
}

/** Writes on one list that waited for the network, sent one after the other, each answered. */
export const writesSent = () =>
  growth(2000, async (count) => {
    const cache = roomy();
    const repairs = source({ ...plain, name: "repairs", load: async () => 0 });
    const open = [];
    const add = write({
      name: "add",
      send: () => new Promise((answer) => open.push(answer)),
      optimistic: (_, edit) => edit.at(repairs).patch((count) => count + 1), // a list would be copied by each
    });
    cache.put(repairs, undefined, 0);
    cache.view(repairs).subscribe(() => {});
    const runs = Array.from({ length: count }, (_, nth) => cache.run(add, nth));
    await turn();
    return async () => {
      for (const answer of open) {
        answer();
        await turn();
      }
      await Promise.all(runs);
    };
  });

/** Kept writes that waited for the network, sent: how many records are read from the store. */
export const keptWritesSent = () =>
  growth(600, async (count) => {
    let online = false;
    let changed = () => {};
    const environment = {
      visible: true,
      get online() {
        return online;
      },
      subscribe(listener) {
        changed = listener;
        return () => {};
      },
    };
    const cache = createCache({ environment });
    const records = new Map();
    const book = write({ name: "book", kept: true, send: async () => 1 });
    const outbox = await openOutbox(cache, {
      writes: [book],
      platform: {
        now: () => Date.now(),
        open: () => ({ post() {}, close() {} }),
        locks: undefined,
        onLife: () => () => {},
      },
      backend: {
        readAll: async () => structuredClone([...records.values()]),
        get: async (id) => structuredClone(records.get(id)),
        put: async (record) => void records.set(record.id, structuredClone(record)),
        delete: async (id) => void records.delete(id),
        clear: async () => records.clear(),
        close: () => {},
      },
    });
    for (let nth = 0; nth < count; nth++) cache.run(book, nth).catch(() => {});
    while (records.size < count) await turn();
    return async () => {
      online = true;
      changed();
      while (outbox.list().length > 0) await turn();
      outbox.close();
      cache.dispose();
    };
  });

const pageSize = 20;

/** A list whose pages are appended one after the other. */
export const pagesAppended = () =>
  growth(12, async (count) => {
    const { cache, repairs } = listOf(count);
    await cache.read(repairs);
    return async () => {
      while (await hasNext(cache, repairs)) await appendPage(cache, repairs);
    };
  });

/** … and asked for again, all of them changed. */
export const pagesChanged = () =>
  growth(12, async (count) => {
    const list = listOf(count);
    const { cache, repairs } = list;
    await cache.read(repairs);
    while (await hasNext(cache, repairs)) await appendPage(cache, repairs);
    list.change();
    return () => cache.read(repairs, undefined, { cache: "no-cache" });
  });

async function hasNext(cache, repairs) {
  return cache.peek(repairs).value.pages.at(-1).next !== undefined;
}

function listOf(count) {
  let version = 1;
  const fetch = async (url) => {
    const page = Number(new URL(url.url ?? url).searchParams.get("page") ?? 0);
    const items = Array.from({ length: pageSize }, (_, nth) => ({ id: version * 1_000_000 + page * pageSize + nth }));
    const next = page + 1 < count ? { link: `</repairs?page=${page + 1}>; rel="next"` } : {};
    return Response.json(items, { headers: { etag: `"${version}-${page}"`, "cache-control": "no-cache", ...next } });
  };
  const api = origin({ base: "https://huts.example", fetch });
  const repairs = pagesFrom(api, { ...plain, name: "repairs", url: "/repairs" });
  const cache = roomy();
  return {
    cache,
    repairs,
    change() {
      version++;
    },
  };
}

/** Entries of an origin whose `headers` are asynchronous, all asked for at once. */
export const asyncHeaders = () =>
  growth(500, async (count) => {
    const fetch = async () => Response.json(1, { headers: { vary: "authorization", "cache-control": "max-age=60" } });
    const api = origin({ base: "https://huts.example", fetch, headers: async () => ({ authorization: "Bearer a" }) });
    const hut = api.source({ ...plain, name: "hut", url: (id) => `/huts/${id}` });
    const cache = createCache({ capacity: 1e6, environment: quiet });
    return () => Promise.all(Array.from({ length: count }, (_, id) => cache.read(hut, id))).then(() => cache.dispose());
  });
