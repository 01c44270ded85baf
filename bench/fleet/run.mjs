// `npm run bench:fleet`: what sharing through Redis costs, as ratios against bare code in the same run, on a real Redis of its own.
import { fork, spawn } from "node:child_process";
import { once } from "node:events";
import { createServer } from "node:net";
import { fileURLToPath } from "node:url";
import autocannon from "autocannon";
import { createCache, source } from "cista";
import { shareFleet } from "cista/fleet";
import { Redis } from "ioredis";
import { redisPath } from "../../scripts/redis.mjs";
import { keep, ratioOf } from "../measure.mjs";
import { bodyOf, sizes } from "./bodies.mjs";

const here = fileURLToPath(new URL(".", import.meta.url));
const port = await freePort();
const quiet = ["--save", "", "--appendonly", "no", "--loglevel", "warning"];
const server = spawn(redisPath() ?? "redis-server", ["--port", String(port), "--bind", "127.0.0.1", ...quiet], {
  stdio: "ignore",
});
const redis = new Redis(port, { maxRetriesPerRequest: null, retryStrategy: () => 20 });
redis.on("error", () => {});
await redis.ping();

const parts = process.argv.slice(2);
const wants = (part) => parts.length === 0 || parts.includes(part);
try {
  if (wants("ratios")) await ratios();
  const workers = await Promise.all(Array.from({ length: 4 }, startWorker));
  if (wants("handlers")) await handlers(workers[0]);
  if (wants("invalidation")) await invalidation(workers);
  for (const { child } of workers) child.kill();
} finally {
  redis.disconnect();
  server.kill();
}
process.exit(0);

/** A hit, one after the other: a cache of its own for each, as for a request. */
async function ratios() {
  const thing = source({ name: "thing", maxAge: "1h", groups: () => ["things"], load: async (size) => bodyOf(size) });
  const near = shareFleet({ redis, name: "ratios", sources: [thing] });
  const far = shareFleet({ redis, name: "ratios", sources: [thing], memoryEntries: false });
  const read = async (fleet, size) => {
    const cache = createCache();
    fleet.share(cache);
    keep(await cache.read(thing, size));
    cache.dispose();
  };
  console.log("| A hit, against a bare GET with parse | in the process | through Redis |\n|---|---|---|");
  for (const size of sizes) {
    await redis.set(`bare ${size}`, JSON.stringify(bodyOf(size)));
    await read(far, size);
    await read(near, size);
    await read(near, size);
    const baseline = async () => keep(JSON.parse(await redis.get(`bare ${size}`)));
    const [process, store] = [
      await ratioOf({ baseline, subject: () => read(near, size) }),
      await ratioOf({ baseline, subject: () => read(far, size) }),
    ];
    console.log(`| ${JSON.stringify(bodyOf(size)).length} B | ${process.toFixed(2)}× | ${store.toFixed(2)}× |`);
  }
  for (const fleet of [near, far]) fleet.close();
}

/** Requests a second of one process that answers so: forty at once. */
async function handlers({ port: at }) {
  console.log(
    "\n| Requests a second, against a handler that has the value | bare GET with parse | out of memory | through Redis |",
  );
  console.log("|---|---|---|---|");
  for (const size of sizes) {
    await redis.set(`bare ${size}`, JSON.stringify(bodyOf(size)));
    const rates = { bare: [], get: [], memory: [], store: [] };
    for (let round = 0; round < 3; round++) {
      for (const way of Object.keys(rates)) {
        const url = `http://127.0.0.1:${at}/${way}/${size}`;
        await fetch(url).then((response) => response.text());
        const { requests, non2xx } = await autocannon({ url, connections: 40, duration: 2 });
        if (non2xx > 0) throw new Error(`${way}: ${non2xx} answers were no 200.`);
        rates[way].push(requests.average);
      }
    }
    const [bare, get, memory, store] = Object.values(rates).map(median);
    const cells = [get, memory, store].map((rate) => `${(rate / bare).toFixed(2)}×`);
    console.log(`| ${JSON.stringify(bodyOf(size)).length} B | ${cells.join(" | ")} |`);
  }
}

/** How late each process hears, when the call returns, and what comes after that. */
async function invalidation(workers) {
  const late = [];
  const returned = [];
  let older = 0;
  const rounds = 200;
  await Promise.all(workers.map((worker) => worker.ask({ kind: "read" })));
  for (let round = 1; round <= rounds; round++) {
    await Promise.all(workers.map((worker) => worker.ask({ kind: "version", version: round })));
    const by = workers[round % workers.length];
    const heard = workers.filter((worker) => worker !== by).map((worker) => worker.next("heard"));
    const { at, returned: until } = await by.ask({ kind: "invalidate" });
    const reads = workers.map((worker) => worker.ask({ kind: "read" }));
    returned.push(until - at);
    for (const { version } of await Promise.all(reads)) if (version < round) older++;
    for (const each of await Promise.all(heard)) late.push(each.at - at);
  }
  console.log("\n| Invalidation by group, four processes | p50 | p95 |\n|---|---|---|");
  for (const [name, list] of [
    ["heard by each process", late],
    ["the call returns", returned],
  ]) {
    console.log(`| ${name} | ${at(list, 0.5)} ms | ${at(list, 0.95)} ms |`);
  }
  console.log(`| older answers after it returned, of ${rounds * workers.length} | ${older} | |`);
}

async function startWorker() {
  const env = { ...process.env, REDIS_URL: `redis://127.0.0.1:${port}` };
  const child = fork(`${here}worker.mjs`, { env });
  const waiting = new Map();
  child.on("message", (said) => {
    const resolve = waiting.get(said.kind);
    waiting.delete(said.kind);
    resolve?.(said);
  });
  const next = (kind) => new Promise((resolve) => waiting.set(kind, resolve));
  const answers = { read: "read", version: "set", invalidate: "invalidated" };
  const ask = (order) => {
    const said = next(answers[order.kind]);
    child.send(order);
    return said;
  };
  return { child, next, ask, port: (await next("port")).port };
}

function median(list) {
  return [...list].sort((one, other) => one - other)[list.length >> 1];
}

function at(list, part) {
  const sorted = [...list].sort((one, other) => one - other);
  return sorted[Math.min(sorted.length - 1, Math.floor(sorted.length * part))].toFixed(1);
}

async function freePort() {
  const server = createServer().listen(0, "127.0.0.1");
  await once(server, "listening");
  const { port } = server.address();
  server.close();
  await once(server, "close");
  return port;
}
