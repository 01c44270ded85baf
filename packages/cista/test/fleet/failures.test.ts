import { Failure } from "cista";
import { expect, test } from "vitest";
import { after, asked, type SimProcess, two } from "./world.js";

// Rule T7, in virtual time.

/** Two processes and a stored value that is stale; from now on the server fails. */
async function stale(message: string) {
  const [world, one, other] = await two();
  world.said = () => ({ maxAge: "10s", staleWhileRevalidate: 0, staleIfError: "1m" });
  await after(world, 300, one.ask("h-07"));
  await world.clock.advance(20_000);
  world.failing = new Failure("http", message, { status: 503 });
  return [world, one, other] as const;
}

test("T7: a failed request gives the stored value, while staleIfError lasts; its failure comes with it", async () => {
  const [world, , other] = await stale("answered 503");
  const cache = other.cache();
  expect(await after(world, 600, cache.read(world.sources.hut, "h-07"))).toEqual([{ id: "h-07", version: 1 }]);
  expect(cache.peek(world.sources.hut, "h-07").failure).toMatchObject({ kind: "http", status: 503 });
  await world.clock.advance(60_000);
  await expect(after(world, 600, other.ask("h-07"))).rejects.toMatchObject({ kind: "http", status: 503 });
});

test("T7: the failure beside a stored value has its text only in the cache whose request failed", async () => {
  const [world, one] = await stale("answered 503, says 10.0.0.7");
  const caches = [one.cache(), one.cache()];
  await after(world, 600, ...caches.map((cache) => cache.read(world.sources.hut, "h-07")));
  const texts = caches.map((cache) => cache.peek(world.sources.hut, "h-07").failure?.message.includes("10.0"));
  expect([texts, asked(world).length]).toEqual([[true, false], 2]);
});

test("T7: a process that has waited for another's failed request gives the stored value too", async () => {
  const [world, one, other] = await stale("answered 503");
  const first = one.ask("h-07");
  await world.clock.advance(20);
  const cache = other.cache();
  const both = await after(world, 600, first, cache.read(world.sources.hut, "h-07"));
  expect([both, asked(world).length]).toEqual([
    [
      { id: "h-07", version: 1 },
      { id: "h-07", version: 1 },
    ],
    2,
  ]);
  expect(cache.peek(world.sources.hut, "h-07").failure).toMatchObject({ kind: "http", status: 503 });
});

test("T7: a failure of the server is told to all that wait, a refusal of one user is not; no text is handed on", async () => {
  const [world, one, other] = await two();
  world.failing = new Failure("http", "answered 503, says 10.0.0.7", { status: 503 });
  const failing = (process: SimProcess) => process.ask("h-07").catch((failure: Failure) => failure);
  const all = [failing(one), failing(one)];
  await world.clock.advance(20);
  all.push(failing(other));
  const [first, ...others] = await after(world, 3000, ...all);
  expect(asked(world)).toHaveLength(1);
  expect(first).toMatchObject({ message: "answered 503, says 10.0.0.7" });
  const told = { kind: "http", status: 503, message: expect.not.stringContaining("10.0") };
  expect(others).toMatchObject([told, told]);
  await world.clock.advance(2000);
  world.failing = new Failure("http", "answered 403", { status: 403 });
  await after(
    world,
    3000,
    ...[one.ask("h-08"), one.ask("h-08"), other.ask("h-08")].map((each) => each.catch(() => {})),
  );
  expect(asked(world)).toHaveLength(3);
});
