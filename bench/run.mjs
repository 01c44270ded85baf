// `npm run bench`: every budget of the library as a ratio against bare code, measured in turns in this one run.
// `npm run bench -- P3 P7` runs only those.

import { bytesAWatchedEntry, garbageOfHit, garbageOfMiss } from "./cases/garbage.mjs";
import {
  journalListeners,
  lattice,
  longChain,
  manyNames,
  manyParts,
  manySources,
  offlineWrites,
  sharedMembers,
  sharedParts,
} from "./cases/growth.mjs";
import {
  asyncHeaders,
  intervalFunctions,
  intervalsCome,
  intervalsGo,
  keptWritesSent,
  pagesAppended,
  pagesChanged,
  writesSent,
} from "./cases/growth-io.mjs";
import { httpNotModified, httpRead } from "./cases/http.mjs";
import { objectLookup, scalarLookup, syncHit, unchangedView } from "./cases/lookup.mjs";
import { bytesAnEntry, groupAmongMany, insertMoments, keepReferences, refreshMoments } from "./cases/mass.mjs";
import { collapsedReads, comeAndGo, notifyMany } from "./cases/notify.mjs";
import { heapAPage, pageFilled, pageInOneGo, pageOverHttp, pageStreamed } from "./cases/page.mjs";
import {
  bindingSizes,
  coreSize,
  httpSize,
  pageSizes,
  reactRestSize,
  reactSize,
  sizeOnHttp,
  sizeOnTop,
} from "./cases/size.mjs";
import { sink } from "./measure.mjs";

const ratio = (figure) => `${figure.toFixed(2)}×`;
const bytes = (figure) => `${Math.round(figure)} B`;
const kB = (figure) => `${figure.toFixed(1)} kB`;

/** Measured to be looked at. */
const noBudget = Number.POSITIVE_INFINITY;

/** Kilobytes: what the trial of the design came to, and a little. */
const bindingBudgets = {
  Vue: 2.1,
  Svelte: 2.1,
  Solid: 2.2,
  Angular: 2.4,
  Lit: 2,
  Preact: 2,
  "plain pages": 1.8,
  React: 2.5,
};
/** What a program pays for that uses one more thing. */
const onTop = {
  composite: "cista",
  write: "cista",
  journalOf: "cista",
  takeSnapshot: "cista",
  restoreSnapshot: "cista",
  writeTo: "cista/http",
  pagesFrom: "cista/http",
  eventsFrom: "cista/http",
  graphqlFrom: "cista/http",
};
const byHand = "the same loads, rendering, JSON in the page";
const cases = [
  ["P1", "find an entry by a text, among 1,000", "map.get(string)", scalarLookup, ratio, 4],
  ["P2", "find an entry by a fresh literal {id, page}, either order", "map.get(string)", objectLookup, ratio, 8],
  ["P3", "view.get() of an unchanged entry", "map.get(string)", unchangedView, ratio, 1],
  ["P4", "tell 10,000 listeners of one key", "a loop over functions", notifyMany, ratio, 1.6],
  ["P5", "10,000 listeners come and go in random order", "a Set of functions", comeAndGo, ratio, 1.5],
  ["P6", "10,000 collapsed reads of one key", "await of one promise", collapsedReads, ratio, 1.6],
  ["P7", "a hit, read synchronously", "await of a settled promise", syncHit, ratio, 1],
  ["P8a", "put 1,000,000 moments into the schedule", "write one field", insertMoments, ratio, 4],
  ["P8b", "put off 1,000,000 moments", "write one field", refreshMoments, ratio, 2],
  ["P9", "one idle entry, without its value", "", bytesAnEntry, bytes, 400],
  [
    "P10",
    "keep the references of 2,000 rows (1 MB), one differs",
    "JSON.parse of the text",
    keepReferences,
    ratio,
    0.5,
  ],
  ["P11", "invalidate a group of 100 among 1,000,000 entries", "among 10,000", groupAmongMany, ratio, 4],
  ["P17a", "invalidate 200,000 parts of one dependent", "20,000 of them", manyParts, ratio, 12],
  ["P17b", "a change beneath a lattice of 15,000 levels", "of 1,500", lattice, ratio, 12],
  ["P17c", "parts in parallel that share theirs, 5,000 deep", "500 deep", sharedParts, ratio, 12],
  ["P17d", "20,000 sources first used and invalidated", "2,000 of them", manySources, ratio, 12],
  ["P17e", "20,000 params with other member names", "2,000 of them", manyNames, ratio, 12],
  ["P17f", "a value of 120 objects that share their parts", "of 12", sharedMembers, ratio, 12],
  ["P17g", "5,000 writes that wait on one entry", "500 of them", offlineWrites, ratio, 12],
  ["P17h", "100,000 journal listeners come and go", "10,000 of them", journalListeners, ratio, 12],
  ["P17i", "a chain of 5,000 composites, loaded and invalidated", "of 500", longChain, ratio, 12],
  [
    "P17j",
    "200,000 views that poll one entry, each by its own interval, come",
    "20,000 of them",
    intervalsCome,
    ratio,
    12,
  ],
  ["P17k", "… and go", "20,000 of them", intervalsGo, ratio, 12],
  [
    "P17l",
    "2,000 whose intervals are functions come and go: calls of these",
    "200 of them",
    intervalFunctions,
    ratio,
    12,
  ],
  ["P17m", "20,000 writes on one list are sent and answered", "2,000 of them", writesSent, ratio, 12],
  ["P17n", "6,000 kept writes are sent and answered", "600 of them", keptWritesSent, ratio, 12],
  ["P17o", "120 pages are appended to a list", "12 of them", pagesAppended, ratio, 12],
  ["P17p", "… and are asked for again, all changed", "12 of them", pagesChanged, ratio, 12],
  ["P17q", "5,000 entries are asked for with asynchronous headers", "500 of them", asyncHeaders, ratio, 12],
  ["P14", "size of createCache + source", "", coreSize, kB, 15.5],
  ["P15a", "size of CistaProvider, useReading, Outcome on top", "", reactSize, kB, 2.1],
  ["P15d", "… and of the rest of cista/react", "", reactRestSize, kB, noBudget],
  ["P15b", "size of cista/http on top", "", httpSize, kB, 4.9],
  ...pageSizes.map(([framework, size], at) => [
    `P21${"abcdefgh"[at]}`,
    `the page of the quick start, in ${framework}: asks over HTTP, and shows`,
    "",
    size,
    kB,
    framework === "React" ? 22 : 25,
  ]),
  ...Object.entries(onTop).map(([name, room], at) => [
    `P22${"abcdefghijk"[at]}`,
    `size of ${name} on top of an origin`,
    "",
    () => sizeOnHttp(room, name),
    kB,
    noBudget,
  ]),
  ...bindingSizes.map(([framework, size], at) => [
    `P18${"abcdefgh"[at]}`,
    `size of the binding for ${framework} on top: provide, read, write`,
    "",
    size,
    kB,
    bindingBudgets[framework],
  ]),
  ["P19a", "a page of 100 values in one go, loads that travel nowhere", byHand, pageInOneGo, ratio, 6],
  ["P19b", "… whose values are in the cache already", byHand, pageFilled, ratio, 3],
  ["P19c", "… over HTTP", "fetch, rendering, JSON in the page", pageOverHttp, ratio, 1.5],
  ["P19d", "… streamed", "React's use, JSON in the page", pageStreamed, ratio, 2.5],
  ["P19e", "heap that each of 10,000 such pages leaves, by the slope", "", heapAPage, bytes, 20],
  ["P23a", "a read over HTTP", "fetch with a signal, and json", httpRead, ratio, 1.3],
  ["P23b", "a revalidation that is answered by 304", "the same 304 by fetch", httpNotModified, ratio, 1.3],
  ["P24a", "what a miss without HTTP allocates", "", garbageOfMiss, bytes, 5000],
  ["P24b", "what a hit allocates", "", garbageOfHit, bytes, 500],
  ["P24c", "a watched entry, without its value", "", bytesAWatchedEntry, bytes, 900],
  ["P20a", "size of openPage on top", "", () => sizeOnTop("server", "openPage"), kB, noBudget],
  ["P20b", "size of receivePage on top", "", () => sizeOnTop("browser", "receivePage"), kB, noBudget],
  ["P20c", "size of openStore on top", "", () => sizeOnTop("browser", "openStore"), kB, noBudget],
  ["P20d", "size of joinTabs on top", "", () => sizeOnTop("browser", "joinTabs"), kB, noBudget],
  ["P20e", "size of openOutbox on top", "", () => sizeOnTop("browser", "openOutbox"), kB, noBudget],
  ["P20f", "size of shareFleet on top", "", () => sizeOnTop("fleet", "shareFleet"), kB, noBudget],
];

const wanted = process.argv.slice(2);
const rows = [];
for (const [id, title, baseline, work, unit, budget] of cases) {
  if (wanted.length > 0 && !wanted.includes(id)) continue;
  const figure = await work();
  const within = Number.isFinite(budget) ? `≤ ${budget}${unit === ratio ? "×" : unit === kB ? " kB" : " B"}` : "";
  const row = `| ${id} | ${title} | ${baseline} | ${unit(figure)} | ${within}${figure > budget ? " **missed**" : ""} |`;
  rows.push(row);
  console.error(row);
}
console.log(`| # | Work | Baseline = 1× | Figure | Budget |\n|---|---|---|---|---|\n${rows.join("\n")}`);
if (Number.isNaN(sink.sum)) process.exitCode = 1;
