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
    await runProgram(given, steps);
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

test("D1: a whole whose part stays invalidated after a failure is asked for anew", async () => {
  const given = {
    capacity: 0,
    maxAge: Number.POSITIVE_INFINITY,
    swr: 0,
    mustRevalidate: true,
    noStore: false,
    retry: 0,
  };
  await runProgram(given, [
    [{ do: "attach", kind: "top", id: 0, when: true, pick: false }],
    [{ do: "end", nth: 0, how: "value" }],
    [{ do: "read", kind: "top", id: 0, signal: false, noStore: true }],
    [
      { do: "change", kind: "leaf", id: 0, how: "invalidate" },
      { do: "end", nth: 0, how: "failure" },
    ],
  ]);
});

async function runProgram(given: any, steps: readonly any[]): Promise<void> {
  const program = new Program(given);
  for (const [at, each] of steps.entries()) {
    await program.take(each).catch((thrown: Error) => {
      throw new Error(`after step ${at} ${JSON.stringify(each)}: ${thrown.message}`);
    });
  }
  await program.close();
}
