import fc from "fast-check";
import { expect, test } from "vitest";
import { Program, settings, step } from "./model/program.js";

// `npm run prove` runs many more, from a seed that it prints; PROVE_SEED=… repeats it.
const runs = Number(process.env.PROVE_RUNS ?? 3000) / 3;
const seed = Number(process.env.PROVE_SEED ?? Date.now() & 0x7fffffff);

test(`invariants: composites, streams, writes, listeners and ends at any moment keep what every cache promises (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  const unhandled: unknown[] = [];
  const note = (reason: unknown) => unhandled.push(reason);
  process.on("unhandledRejection", note);
  const run = async (given: any, steps: readonly any[]) => {
    const program = new Program(given);
    for (const [at, each] of steps.entries()) {
      await program.take(each).catch((thrown: Error) => {
        throw new Error(`after step ${at} ${JSON.stringify(each)}: ${thrown.message}`);
      });
    }
    await program.close();
    if (unhandled.length > 0) throw new Error(`unhandled: ${unhandled.splice(0)[0]}`);
  };
  await fc.assert(fc.asyncProperty(settings, fc.array(step, { minLength: 5, maxLength: 40 }), run), {
    numRuns: runs,
    seed,
    endOnFailure: process.env.PROVE_QUICK === "1",
  });
  process.off("unhandledRejection", note);
  expect(runs).toBeGreaterThan(0);
});
