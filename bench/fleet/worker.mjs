// A server of the fleet, for run.mjs: its parent says where Redis is. It answers in five ways, and tells when it hears.
import { createServer } from "node:http";
import { createCache, journalOf, source } from "cista";
import { shareFleet } from "cista/fleet";
import { Redis } from "ioredis";
import { bodyOf } from "./bodies.mjs";

const redis = new Redis(process.env.REDIS_URL);
let version = 1;
const things = source({
  name: "thing",
  maxAge: "1h",
  groups: () => ["things"],
  load: async (size) => ({ ...bodyOf(size), version }),
});
const near = shareFleet({ redis, name: "bench", sources: [things] });
const far = shareFleet({ redis, name: "bench-far", sources: [things], memoryEntries: false });

async function read(fleet, size) {
  const cache = createCache();
  fleet.share(cache);
  try {
    return await cache.read(things, size);
  } finally {
    cache.dispose();
  }
}

const ways = {
  bare: (size) => bodyOf(size),
  get: async (size) => JSON.parse(await redis.get(`bare ${size}`)),
  memory: (size) => read(near, size),
  store: (size) => read(far, size),
};
const server = createServer(async (request, response) => {
  const [, way, size] = request.url.split("/");
  const body = JSON.stringify(await ways[way](Number(size)));
  response.setHeader("content-type", "application/json").end(body);
});

// What it watches hears of each invalidation.
const watching = createCache();
near.share(watching);
watching.view(things, 53).subscribe(() => {});
const now = () => performance.timeOrigin + performance.now();
journalOf(watching).subscribe(() => process.send({ kind: "heard", at: now() }), ["invalidate"]);

process.on("message", async ({ kind, ...order }) => {
  if (kind === "version") {
    version = order.version;
    process.send({ kind: "set" });
  } else if (kind === "invalidate") {
    const at = now();
    await near.invalidate({ groups: ["things"] });
    process.send({ kind: "invalidated", at, returned: now() });
  } else {
    process.send({ kind: "read", version: (await read(near, 53)).version });
  }
});
server.listen(0, "127.0.0.1", () => process.send({ kind: "port", port: server.address().port }));
