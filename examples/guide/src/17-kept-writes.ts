import { type Cache, createCache } from "cista";
import { openOutbox } from "cista/browser";
import { origin, writeTo } from "cista/http";
import { virtualEnvironment } from "cista/rehearsal";
import type { Night } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin();
const book = writeTo<Night>(greyfell, { name: "book", kept: true, method: "POST", url: "/api/basket" });

const inWords = (outbox: Awaited<ReturnType<typeof openOutbox>>) =>
  outbox.list().map(({ write, state, input }) => `${write} ${(input as Night).night}: ${state}`);

/** A page without a network: it is closed before there is one. */
const offline = virtualEnvironment({ online: false });
const first: Cache = createCache({ environment: offline });
const kept = await openOutbox(first, { name: "guide", writes: [book] });
const isKept = (night: string) =>
  new Promise<string>((onPhase) => void first.run(book, { hut: "h-07", night }, { onPhase }).catch(() => {}));
console.log(await isKept("2026-12-23"), await isKept("2026-12-24"));
console.log(inWords(kept), network.requests);
kept.close();
first.dispose();

/** The next page. */
const environment = virtualEnvironment({ online: false });
const cache = createCache({ environment });
const outbox = await openOutbox(cache, { name: "guide", writes: [book] });
console.log(inWords(outbox));
environment.set({ online: true });
while (outbox.list().length > 0) await new Promise<void>((resolve) => outbox.subscribe(resolve));
console.log(network.requests, `${new Set(network.keys).size} keys`);
// #region harness
outbox.close();
cache.dispose();
// #endregion
