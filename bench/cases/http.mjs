import { createCache } from "cista";
import { origin } from "cista/http";
import { cpuRatioOf } from "../measure.mjs";
import { withHutServer } from "./huts-over-http.mjs";

// What a read over HTTP costs on top of the platform's own fetch, whose caller may abort it too. A hundred at once.

const numbers = Array.from({ length: 100 }, (_, id) => id);
const all = (ask) => () => Promise.all(numbers.map(ask));
const how = { batch: 4, rounds: 25 };

const hutsOf = (base) => origin({ base }).source({ name: "far-hut", url: (id) => `/huts/${id}`, requestBudget: false });

async function fetched(url, headers) {
  const abort = new AbortController();
  const response = await fetch(url, { headers, signal: abort.signal });
  return response.status === 304 ? response.text() : response.json();
}

export const httpRead = () =>
  withHutServer((base) => {
    const hut = hutsOf(base);
    const subject = async () => {
      const cache = createCache();
      await Promise.all(numbers.map((id) => cache.read(hut, id)));
      cache.dispose();
    };
    return cpuRatioOf({ baseline: all((id) => fetched(`${base}/huts/${id}`)), subject, ...how });
  });

export const httpNotModified = () =>
  withHutServer(async (base) => {
    const hut = hutsOf(base);
    const cache = createCache();
    await Promise.all(numbers.map((id) => cache.read(hut, id)));
    const ratio = await cpuRatioOf({
      baseline: all((id) => fetched(`${base}/huts/${id}`, { "if-none-match": `"${id}"` })),
      subject: all((id) => cache.read(hut, id, { cache: "no-cache" })),
      ...how,
    });
    cache.dispose();
    return ratio;
  });
