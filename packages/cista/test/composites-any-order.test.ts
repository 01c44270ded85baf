import type { Source } from "cista";
import fc from "fast-check";
import { expect, test } from "vitest";
import { type Act, type First, type How, type Kind, leaves, type Node, type Step } from "./model/graph-steps.js";
import { World } from "./model/graph-world.js";
import { isQuick, programsOf } from "./model/programs.js";

// Rule D1 in random graphs of composites over a server whose values change: at rest everything watched is made of what the
// server has now; until then nothing above a change is fresh; and nothing is loaded that did not have to be, exactly.

const { runs, seed, ran } = programsOf("composites", 300, 1);

/** Any of what stands before it, one of them twice now and then; or a leaf beside a composite. */
const dependenciesBefore = (at: number) =>
  fc.oneof(
    fc.array(fc.nat(leaves + at - 1), { minLength: 1, maxLength: 4 }),
    fc.tuple(fc.nat(leaves - 1), fc.integer({ min: Math.min(leaves, leaves + at - 1), max: leaves + at - 1 })),
    fc.shuffledSubarray(
      Array.from({ length: leaves + at }, (_, each) => each),
      { minLength: 2, maxLength: 4 },
    ),
  );
const node = (at: number): fc.Arbitrary<Node> =>
  fc.record({
    dependencies: dependenciesBefore(at),
    together: fc.boolean(),
    coarse: fc.boolean(),
    slow: fc.boolean(),
  });
const all = leaves + 4;
const leaf = fc.nat(leaves - 1);
const exactly = fc.constantFrom<How>("invalidate", "invalidate", "put", "put", "named group", "own group");
const how = fc.oneof({ weight: 6, arbitrary: exactly }, { weight: 1, arbitrary: fc.constant<How>("many groups") });
const by = fc.constantFrom(0, 1, 8);
const composed = fc.integer({ min: leaves, max: all - 1 });
const chosen = <D extends Step["do"]>(name: D, weight: number, rest: object) => ({
  weight,
  arbitrary: fc.record({ do: fc.constant(name), ...rest }) as unknown as fc.Arbitrary<Step>,
});
const act = fc.constantFrom<Act>(
  ...(["invalidate", "invalidate", "put", "delete", "read leaf", "watch leaf"] as const),
  ...(["read between", "begin", "pass", "pass"] as const),
);
const acts = fc.array(act, { minLength: 2, maxLength: 7 });
const plainSteps = [
  chosen("watch", 4, { node: fc.nat(all - 1) }),
  chosen("read", 1, { node: fc.nat(all - 1) }),
  chosen("change", 5, { leaf, by, how }),
  chosen("calm", 3, { leaf, other: leaf, by, how: exactly }),
  chosen("midway", 1, { node: composed, leaf, by, how, restores: fc.boolean() }),
  chosen("outdate", 1, { node: composed, leaf, between: fc.nat(7), acts }),
  chosen("pass", 4, { ms: fc.constantFrom(0, 5, 10, 11, 20) }),
];
/** They leave something behind (a failure, a stream, a second change of one answer), after which less is known for certain. */
const oddSteps = [
  chosen("broken", 6, { node: composed, leaf, other: leaf }),
  chosen("fail", 1, { leaf }),
  chosen("recover", 2, { leaf, by, how }),
  chosen("delete", 1, { leaf }),
  chosen("react", 1, { leaf }),
  chosen("write", 2, { leaf, by }),
  chosen("events", 1, { count: fc.constantFrom(1, 20, 150) }),
];
const program = fc.oneof(
  ...[plainSteps, [...plainSteps, ...oddSteps]].map((steps) =>
    fc.array(fc.oneof(...steps), { minLength: 3, maxLength: 25 }),
  ),
);

test(`D1: random graphs of composites, at rest as the server is, with no load too many (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  const graph = fc.tuple(node(0), node(1), node(2), node(3));
  const kinds = fc.constantFrom<Kind>("lasting", "lasting", "short-lived", "short-lived", "restless");
  const property = fc.asyncProperty(
    graph,
    kinds,
    fc.boolean(),
    fc.constantFrom<First>("usual", "usual", "no-store", "must-revalidate"),
    program,
    async (nodes, kind, mustRevalidate, first, steps) => {
      ran(steps.length);
      const world = new World(nodes, kind, mustRevalidate, first);
      try {
        for (const each of steps) await world.take(each);
        await world.rest();
        await world.checkFeed();
      } finally {
        world.cache.dispose();
      }
    },
  );
  await fc.assert(property, { numRuns: runs, seed, endOnFailure: isQuick });
  expect(runs).toBeGreaterThan(0);
});

test("D1: a dependency that became stale while its composite was loaded is brought up to date", async () => {
  const over = (...dependencies: number[]): Node => ({ dependencies, together: false, coarse: false, slow: false });
  const world = new World([over(2, 0), over(4, 0), over(0, 5), over(0)], "lasting", false);
  await world.take({ do: "read", node: 5 });
  await world.take({ do: "change", leaf: 0, by: 0, how: "put" });
  await world.take({ do: "react", leaf: 2 });
  await world.take({ do: "watch", node: 6 });
  await world.take({ do: "change", leaf: 2, by: 1, how: "put" });
  await world.rest();
  world.cache.dispose();
});

test("D1: a change reaches a composite whose dependency was answered with the same just before", async () => {
  const over = (...dependencies: number[]): Node => ({ dependencies, together: false, coarse: false, slow: false });
  const world = new World([over(1, 3), over(4, 1, 0), over(0), over(0)], "short-lived", true);
  await world.take({ do: "watch", node: 5 });
  await world.take({ do: "pass", ms: 35 }); // the first dependency has been read, the second is asked for again
  await world.take({ do: "change", leaf: 3, by: 8, how: "invalidate" });
  await world.rest();
  world.cache.dispose();
});

test("D1: a restored composite of what was invalidated is not read, where a dependency below came out the same", async () => {
  const over = (...dependencies: number[]): Node => ({ dependencies, together: false, coarse: false, slow: false });
  const world = new World([over(3, 3), over(0, 4), over(0, 4), over(0, 4)], "short-lived", false);
  await world.take({ do: "midway", node: 6, leaf: 0, by: 0, how: "invalidate", restores: false });
  await world.take({ do: "midway", node: 4, leaf: 0, by: 0, how: "invalidate", restores: true });
  await world.take({ do: "read", node: 6 });
  await world.rest();
  world.cache.dispose();
});

test("D1: two slow composites do not ask for a dependency that fails in turns, for ever", async () => {
  const over = (dependencies: number[], slow: boolean): Node => ({ dependencies, together: true, coarse: false, slow });
  const nodes = [over([1, 3], false), over([0, 4], true), over([0, 4], false), over([3, 4, 5], true)];
  const world = new World(nodes, "short-lived", false);
  await world.take({ do: "midway", node: 7, leaf: 0, by: 0, how: "invalidate", restores: false });
  await world.take({ do: "recover", leaf: 1, by: 0, how: "invalidate" });
  world.cache.dispose();
});

test("D2, F5: a composite whose must-revalidate dependency is deleted while it is loaded is not shown as it came, and recovers", async () => {
  const over = (dependencies: number[], slow = false): Node => ({ dependencies, together: false, coarse: false, slow });
  const nodes = [over([1, 0]), over([2, 0]), over([0, 4]), over([4, 3], true)];
  const world = new World(nodes, "lasting", false, "must-revalidate");
  await world.take({ do: "change", leaf: 0, by: 0, how: "put" });
  await world.take({ do: "watch", node: 7 });
  await world.take({ do: "pass", ms: 11 }); // the first dependency has been read
  const shown: string[] = [];
  const view = world.cache.view(world.sources[7] as Source<void, number>, undefined, { when: false });
  view.subscribe(() => void shown.push(view.get().state));
  await world.take({ do: "recover", leaf: 0, by: 0, how: "many groups" });
  expect(shown.filter((state) => state !== "empty" && state !== "loading")).toEqual(["failed", "ready"]);
  world.cache.dispose();
});

test("D2: a composite is not made of a value that must be revalidated, and could not be", async () => {
  const over = (...dependencies: number[]): Node => ({ dependencies, together: false, coarse: false, slow: false });
  const nodes = [over(0, 2, 3), over(0), over(0, 4), over(1, 4)];
  const world = new World(nodes, "lasting", false, "must-revalidate");
  await world.take({ do: "broken", node: 7, leaf: 0, other: 1 });
  await world.take({ do: "recover", leaf: 0, by: 0, how: "invalidate" });
  world.cache.dispose();
});
