import fc from "fast-check";
import { expect, test } from "vitest";
import { isQuick, programsOf } from "./model/programs.js";
import { compare, rules, step } from "./model/schedule.js";

const { runs, seed, ran } = programsOf("model", 1500, 1);

test(`the cache does what the model does, whatever happens in whatever order (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  const property = fc.asyncProperty(rules, fc.array(step, { minLength: 5, maxLength: 30 }), async (given, steps) => {
    ran(steps.length);
    await compare(given, steps);
  });
  await fc.assert(property, { numRuns: runs, seed, endOnFailure: isQuick });
  expect(runs).toBeGreaterThan(0);
});
