import type { Redis } from "ioredis";
import { afterAll, afterEach, beforeAll, expect, test } from "vitest";
import { bundledWorker, CountingOrigin, Way, Worker } from "./processes.js";
import { RealRedis } from "./redis.js";
import type { WorkerSettings } from "./worker.js";

// A fleet of real processes on a real Redis, that are killed, stopped and cut off. Rules T1 to T9.

let redis: RealRedis;
let admin: Redis;
beforeAll(async () => {
  redis = await RealRedis.start();
  admin = await redis.admin();
});
afterAll(() => redis.end());

type Timing = Pick<WorkerSettings, "lease" | "timeout">;

let worker: Awaited<ReturnType<typeof bundledWorker>>;
let origin: CountingOrigin;
const workers: Worker[] = [];
const ways: Way[] = [];
beforeAll(async () => {
  worker = await bundledWorker();
});
afterAll(() => worker.remove());
afterEach(async () => {
  await Promise.all(workers.splice(0).map((each) => each.kill()));
  for (const way of ways.splice(0)) way.end();
  origin.end();
});

/** How soon a process answers without Redis, in a test in which Redis goes away: later than any answer of Redis on a busy machine. */
const impatient = { timeout: "3s" } as const;

/**
 * A fleet that begins with nothing. The first process has a lease of its own in a test that kills or stops it. A living process
 * keeps its lease, also one that has no core for seconds.
 */
async function start(count: number, { lease = "60s", timeout = "20s" }: Partial<Timing> = {}): Promise<void> {
  await admin.flushall();
  origin = await new CountingOrigin().start();
  for (let n = 0; n < count; n++) {
    const way = await new Way(redis.port).start();
    ways.push(way);
    const client = n % 2 ? "redis" : "ioredis";
    workers.push(
      await Worker.start(worker.path, {
        client,
        redis: `redis://127.0.0.1:${way.port}`,
        origin: origin.url,
        lease: n === 0 ? lease : "60s",
        timeout,
      }),
    );
  }
}
const askAll = (id: string) => Promise.all(workers.map((each) => each.ask(id)));
const versions = async (id: string) => (await askAll(id)).map(({ value }) => value?.version);

test("four processes, 200 requests each, 50 keys: 50 at the origin when cold, none when warm, 50 behind when stale", async () => {
  await start(4);
  origin.cacheControl = "max-age=600, stale-while-revalidate=600";
  const askFor = () =>
    Promise.all(workers.flatMap((each) => Array.from({ length: 200 }, (_, n) => each.ask(`h-${n % 50}`))));
  const release = origin.hold();
  const cold = askFor();
  await expect.poll(() => origin.asked.length).toBe(50);
  release();
  expect((await cold).every(({ value }) => value)).toBe(true);
  expect(origin.asked).toHaveLength(50);
  await askFor();
  expect(origin.asked).toHaveLength(50);
  // Past their lifetime: as if they had been put an hour ago. A memory of them would not know that.
  for (const key of await admin.keys("{trial}:e:*")) await admin.hset(key, "a", 601_000);
  const later = await Worker.start(worker.path, {
    client: "ioredis",
    redis: redis.url,
    origin: origin.url,
    lease: "60s",
    timeout: "20s",
  });
  workers.push(later);
  const releaseBehind = origin.hold();
  const stale = await Promise.all(Array.from({ length: 200 }, (_, n) => later.ask(`h-${n % 50}`)));
  expect(stale.every(({ value }) => value.version <= 50)).toBe(true);
  await expect.poll(() => origin.asked.length).toBe(100);
  releaseBehind();
  await expect.poll(async () => (await later.ask("h-7")).value.version).toBeGreaterThan(50);
  expect(origin.asked).toHaveLength(100);
});

test("kill -9 of a lease's holder in mid-request: another asks, all are answered", async () => {
  await start(3, { lease: "1s" });
  const release = origin.hold();
  const lost = workers[0]?.ask("h-07");
  void lost;
  await expect.poll(() => origin.asked.length).toBe(1);
  const waiting = [workers[1]?.ask("h-07"), workers[2]?.ask("h-07")];
  await workers[0]?.kill();
  await expect.poll(() => origin.asked.length).toBe(2);
  release();
  expect((await Promise.all(waiting)).map((said) => said?.value.version)).toEqual([2, 2]);
});

test("a stopped holder's late answer is not put over the answer of a later request", async () => {
  await start(2, { lease: "1s" });
  const release = origin.hold();
  const late = workers[0]?.ask("h-07");
  await expect.poll(() => origin.asked.length).toBe(1);
  workers[0]?.process.kill("SIGSTOP");
  const next = workers[1]?.ask("h-07");
  await expect.poll(() => origin.asked.length).toBe(2);
  release();
  expect((await next)?.value.version).toBe(2);
  workers[0]?.process.kill("SIGCONT");
  expect((await late)?.value.version).toBe(1);
  expect(await versions("h-07")).toEqual([2, 2]);
});

test("Redis killed and back: every request is answered, each alone; invalidations of meanwhile are told", async () => {
  await start(2, impatient);
  await askAll("h-07");
  await redis.kill();
  expect((await Promise.all([askAll("h-08"), askAll("h-09"), askAll("h-10")])).flat().every(({ value }) => value)).toBe(
    true,
  );
  await expect.poll(async () => (await workers[0]?.figures())?.isAway).toBe(true);
  expect(await workers[0]?.invalidate("huts")).toBe(false);
  await redis.start();
  await expect
    .poll(async () => (await Promise.all(workers.map((each) => each.figures()))).some(({ isAway }) => isAway))
    .toBe(false);
  await expect.poll(() => versions("h-07").then((all) => new Set(all).size)).toBe(1);
  const [version] = await versions("h-07");
  expect(version).toBeGreaterThan(1);
});

test("Redis hangs: every request is answered; when it goes on they share again", async () => {
  await start(2, impatient);
  redis.signal("SIGSTOP");
  expect((await Promise.all([askAll("h-07"), askAll("h-08"), askAll("h-09")])).flat().every(({ value }) => value)).toBe(
    true,
  );
  redis.signal("SIGCONT");
  await expect
    .poll(async () => (await Promise.all(workers.map((each) => each.figures()))).some(({ isAway }) => isAway))
    .toBe(false);
  await askAll("h-20");
  const before = origin.asked.length;
  await askAll("h-20");
  expect(origin.asked.length).toBe(before);
});

test("T5: Redis flushed: asked once more, and nothing that was remembered is believed", async () => {
  await start(2);
  await askAll("h-07");
  await admin.flushall();
  await expect
    .poll(async () => (await Promise.all(workers.map((each) => each.figures()))).every(({ gaps }) => gaps > 0))
    .toBe(true);
  expect(new Set(await versions("h-07"))).toEqual(new Set([2]));
});

test("one process cut from Redis: it answers alone, and hears the rest when it is back", async () => {
  await start(2, impatient);
  await askAll("h-07");
  ways[0]?.cut();
  expect((await askAll("h-08")).every(({ value }) => value)).toBe(true);
  expect(await workers[1]?.invalidate("huts")).toBe(true);
  expect((await workers[1]?.ask("h-07"))?.value.version).toBeGreaterThan(1);
  ways[0]?.mend();
  await expect.poll(async () => (await versions("h-07"))[0]).toBe((await versions("h-07"))[1]);
});

test("messages lost: no answer is older than a call that has returned", async () => {
  await start(3);
  for (let n = 0; n < 5; n++) {
    await askAll("h-07");
    await admin.call("CLIENT", "KILL", "TYPE", "pubsub");
    const before = origin.asked.length;
    expect(await workers[n % 3]?.invalidate("huts")).toBe(true);
    expect((await versions("h-07")).every((version) => version > before)).toBe(true);
  }
});

test("two users: a private answer is each one's own, and never in Redis; a public one is for both", async () => {
  await start(2);
  origin.cacheControl = "private, max-age=600";
  const own = await Promise.all(
    workers.flatMap((each) => ["wren", "ash"].map(async (user) => [user, (await each.ask("h-07", user)).value.of])),
  );
  expect(own.every(([user, of]) => user === of)).toBe(true);
  expect(await admin.keys("{trial}:e:*")).toEqual([]);
  origin.cacheControl = "max-age=600"; // with Authorization, and without a word that it may be shared
  await workers[0]?.ask("h-08", "wren");
  expect((await workers[1]?.ask("h-08", "ash"))?.value.of).toBe("ash");
  origin.cacheControl = "public, max-age=600";
  await workers[0]?.ask("h-09", "wren");
  await expect.poll(() => admin.keys("{trial}:e:*")).toEqual(['{trial}:e:hut "h-09"']);
  expect((await workers[1]?.ask("h-09", "ash"))?.value.of).toBe("wren");
});
