import { appendFileSync } from "node:fs";
import { afterAll } from "vitest";

// How many random programs a world runs, and from which seed: `npm run prove` and PROVE_SEED=… choose both. The worlds differ in
// the price of a program; `npm run prove` gives each of them the same time, and adds up the programs of all.

/** Only whether a program fails is wanted: the shortest program that fails is not looked for. */
export const isQuick: boolean = process.env.PROVE_QUICK === "1";

export interface Programs {
  readonly runs: number;
  readonly seed: number;
  /** Counts a program of so many steps. */
  ran(steps: number): void;
}

/** `usual` programs in `npm test`; a `share` of PROVE_RUNS elsewhere. */
export function programsOf(world: string, usual: number, share: number): Programs {
  const wanted = process.env.PROVE_RUNS;
  const runs = wanted ? Math.max(1, Math.ceil(Number(wanted) / share)) : usual;
  const seed = Number(process.env.PROVE_SEED ?? Date.now() & 0xfffffff);
  let programs = 0;
  let steps = 0;
  const file = process.env.PROVE_COUNTS;
  if (file) afterAll(() => appendFileSync(file, `${JSON.stringify({ world, programs, steps })}\n`));
  const ran = (count: number) => {
    programs++;
    steps += count;
  };
  return { runs, seed, ran };
}
