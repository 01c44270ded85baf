// `npm run prove`: random programs in each world for an hour, and what they found. `npm run prove -- --minutes 10 --seed 42`.
// The worlds take turns of half a minute, each turn with seeds of its own, so that a fault in any of them is found early.
import { spawn } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { parseArgs } from "node:util";
import { root } from "./ready.mjs";

const { values } = parseArgs({
  options: {
    minutes: { type: "string", default: "60" },
    seed: { type: "string" },
    world: { type: "string", multiple: true },
  },
});
const wanted = values.world;
/** How much of PROVE_RUNS a world takes at its first turn; afterwards as much as fills a turn. */
const worlds = [
  ...["model", "invariants", "fuzz", "http-freshness"],
  ...["composites", "lists", "writes", "tabs", "outbox", "page", "users", "identity", "server", "fleet"].map(
    (name) => `${name}-any-order`,
  ),
  "fleet/redis-any-order.e2e",
]
  .map((name) => ({ name, runs: 600, programs: 0, steps: 0, seconds: 0, finds: [] }))
  .filter(({ name }) => !wanted || wanted.some((word) => name.startsWith(word)));
const turn = 30;
const folder = mkdtempSync(join(tmpdir(), "cista-prove-"));
const started = Date.now();
const minutes = () => (Date.now() - started) / 60_000;
let seed = Number(values.seed ?? started & 0xfffffff);

console.log(`${values.minutes} minutes from seed ${seed}`);
while (minutes() < Number(values.minutes)) {
  for (const world of worlds) {
    if (minutes() < Number(values.minutes)) await take(world);
    seed += 1_000_000; // some worlds count their programs on from the seed
  }
}
rmSync(folder, { recursive: true, force: true });
report();

/** A turn of a world: as many programs as fill half a minute, going by its last turn. */
async function take(world) {
  const counts = join(folder, "counts");
  const out = join(folder, "result.json");
  for (const file of [counts, out]) rmSync(file, { force: true });
  const args = [
    "vitest",
    "run",
    "--project",
    world.name.endsWith(".e2e") ? "whole" : "node",
    `packages/cista/test/${world.name}.test.ts`,
    "--testNamePattern",
    "seed",
  ];
  const env = {
    ...process.env,
    PROVE_RUNS: String(world.runs),
    PROVE_SEED: String(seed & 0xfffffff),
    PROVE_COUNTS: counts,
  };
  const begun = Date.now();
  const child = spawn("npx", [...args, "--reporter", "json", "--outputFile", out], { cwd: root, stdio: "ignore", env });
  await new Promise((ended) => child.on("close", ended));
  const seconds = (Date.now() - begun) / 1000;
  const { programs, steps } = JSON.parse(readFileSync(counts, "utf8").trim().split("\n").at(-1));
  world.programs += programs;
  world.steps += steps;
  world.seconds += seconds;
  world.runs = Math.max(60, Math.round(world.runs * Math.min(4, Math.max(0.25, turn / seconds))));
  const { testResults } = JSON.parse(readFileSync(out, "utf8"));
  for (const { message, assertionResults } of testResults) {
    const failed = assertionResults.filter(({ status }) => status === "failed");
    if (failed.length === 0 && !message) continue;
    const said =
      failed.map(({ title, failureMessages }) => `${title}\n${failureMessages.join("\n")}`).join("\n") || message;
    world.finds.push(minutes());
    console.log(
      `\nafter ${minutes().toFixed(1)} minutes, PROVE_SEED=${seed & 0xfffffff}: ${world.name}\n${said.slice(0, 4000)}`,
    );
  }
}

function report() {
  const all = { name: "all", programs: 0, steps: 0, seconds: 0, finds: [] };
  for (const { programs, steps, seconds, finds } of worlds) {
    all.programs += programs;
    all.steps += steps;
    all.seconds += seconds;
    all.finds.push(...finds);
  }
  console.log("\n| World | Programs | Steps | Seconds | Finds | in the last half |\n|---|---|---|---|---|---|");
  for (const { name, programs, steps, seconds, finds } of [...worlds, all]) {
    const late = finds.filter((at) => at > Number(values.minutes) / 2).length;
    console.log(`| ${name} | ${programs} | ${steps} | ${Math.round(seconds)} | ${finds.length} | ${late} |`);
  }
  if (all.finds.length > 0) process.exitCode = 1;
}
