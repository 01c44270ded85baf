import { afterAll, beforeAll, expect, test, vi } from "vitest";
import { Schedule } from "./fleet/schedule.js";
import { FleetWorld, type Hut } from "./fleet/world.js";
import { programsOf } from "./model/programs.js";

// A fleet in random schedules: processes are killed, stopped and cut off, the store goes, refuses and loses all, messages are
// lost, answers are private or shared. Every request is answered; nothing older comes after what was invalidated; nothing of one
// user is in the store, or another's.

const { runs: schedules, seed: first, ran } = programsOf("fleet", 20, 12);

beforeAll(() => void vi.spyOn(console, "warn").mockImplementation(() => {}));
afterAll(() => void vi.restoreAllMocks());

test(`T1, T2, T3, T4, T5, T6, T7, T8, T9, T10, T11: random schedules of a fleet (seed ${first})`, async () => {
  let reads = 0;
  for (let seed = first; seed < first + schedules; seed++) {
    ran(Schedule.steps);
    const schedule = new Schedule(seed);
    await schedule.run();
    reads += schedule.reads;
    const faults = schedule.faults();
    if (faults.length > 0) console.log(schedule.log.join("\n"));
    expect(faults, `seed ${seed}`).toEqual([]);
    for (const process of schedule.world.processes) process.member.close();
  }
  expect(reads).toBeGreaterThan(schedules * 20);
}, 3_600_000);

test(`T1: of private and shared answers mixed, for two users, nothing private is ever in the store (seed ${first})`, async () => {
  const world = new FleetWorld(first);
  world.latency = 5;
  world.said = (id) => ({ maxAge: "5s", shared: { for: id.startsWith("private") ? "user" : "all" } });
  const processes = [world.start({ perUser: [] }), world.start({ perUser: [] })];
  await world.clock.advance(50);
  const rounds = Math.max(100, schedules);
  for (let round = 0; round < rounds; round++) {
    const caches = processes.flatMap((process) =>
      ["wren", "ash"].map((user) => ({ user, cache: process.cache(user) })),
    );
    const asked = caches.flatMap(({ user, cache }) =>
      Array.from({ length: 25 }, async (_, n) => {
        const id = `${n % 2 ? "private" : "shared"} ${n}`;
        const { hut, basket } = world.sources;
        const came: Hut = await cache.read(n % 4 === 1 ? basket : hut, id);
        if (n % 4 === 1 && came.of !== user) throw new Error(`${id} of ${came.of} for ${user}`);
      }),
    );
    await world.clock.advance(700);
    await Promise.all(asked);
    for (const { cache } of caches) cache.dispose();
  }
  expect(world.store.everPut.filter((put) => put.includes("private"))).toEqual([]);
  expect(world.store.everPut.length).toBeGreaterThan(10);
  for (const process of processes) process.member.close();
}, 3_600_000);
