import { createCache, type Duration, Failure, type Source, source } from "cista";
import { shareFleet } from "cista/fleet";
import { origin } from "cista/http";
import { Redis } from "ioredis";
import { createClient } from "redis";

// One server of a fleet, as a process of its own: it is told what to do by messages.

/** What a worker is started with. */
export interface WorkerSettings {
  readonly client: "ioredis" | "redis";
  readonly redis: string;
  readonly origin: string;
  readonly lease: Duration;
  readonly timeout: Duration;
}

export type Order = { readonly n: number } & (
  | { readonly kind: "ask"; readonly id: string; readonly user?: string }
  | { readonly kind: "invalidate"; readonly groups: string[] }
  | { readonly kind: "figures" }
);

const settings: WorkerSettings = JSON.parse(process.argv[2] ?? "{}");
const server = origin({
  base: settings.origin,
  headers: ({ context }: { context?: unknown }) => (context ? { authorization: String(context) } : {}),
});
const hut: Source<string, unknown> = server.source({
  name: "hut",
  url: (id) => `/huts/${id}`,
  retry: false,
  requestBudget: false,
});
const note = source({ name: "note", load: async () => "not shared" });

const redis =
  settings.client === "ioredis"
    ? new Redis(settings.redis, { retryStrategy: () => 20 })
    : createClient({ url: settings.redis, socket: { reconnectStrategy: () => 20 } });
redis.on("error", () => {});
if (redis instanceof Redis) await redis.ping();
else await redis.connect();

const { lease, timeout } = settings;
const fleet = shareFleet({ redis: redis as never, name: "trial", sources: [hut], leaseTime: lease, timeout });

process.on("message", async (order: Order) => {
  process.send?.({ n: order.n, ...(await done(order)) });
});
process.send?.({ n: 0 });

async function done(order: Order): Promise<object> {
  switch (order.kind) {
    case "ask": {
      const cache = createCache({ context: order.user });
      fleet.share(cache);
      try {
        await cache.read(note);
        return { value: await cache.read(hut, order.id) };
      } catch (thrown) {
        return { failed: thrown instanceof Failure ? thrown.kind : String(thrown) };
      } finally {
        cache.dispose();
      }
    }
    case "invalidate":
      return { isTold: await fleet.invalidate({ groups: order.groups }) };
    default:
      return { figures: { ...fleet.counts }, isAway: fleet.isStoreAway };
  }
}
