import fc from "fast-check";
import { expect, test } from "vitest";
import { compare, rules, step } from "./model/schedule.js";

// `npm run prove` runs a million steps, from a seed that it prints; PROVE_SEED=… repeats it.
const runs = Number(process.env.PROVE_RUNS ?? 3000);
// Whoever only asks whether it fails need not wait for the shortest schedule that does.
const quick = process.env.PROVE_QUICK === "1";
const seed = Number(process.env.PROVE_SEED ?? Date.now() & 0x7fffffff);

test(`the cache does what the model does, whatever happens in whatever order (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  await fc.assert(fc.asyncProperty(rules, fc.array(step, { minLength: 5, maxLength: 30 }), compare), {
    numRuns: runs,
    seed,
    endOnFailure: quick,
  });
  expect(runs).toBeGreaterThan(0);
});
