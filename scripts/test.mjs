// `npm test`: everything that is missing, then types, lint, build, package check, and the tests of the library,
// of the command and of the examples, in Node and in a real browser. Nothing is left out quietly.
// Random tests take their seed from the library as it is committed: the same code is tried by the same programs everywhere.
// Of the seven meta-frameworks the commit chooses two; `npm run test:meta` builds and drives all of them.
// `--quick` tests only what is not committed yet, in Node, in about a minute.
// TEST_DAY=0 to 5 runs the tests on another date, in another time zone; TEST_DAY=commit lets the commit choose.
import { apps } from "../examples/meta/apps.mjs";
import { chromiumPath } from "./chromium.mjs";
import { dayOf, numberOf } from "./days.mjs";
import { nginxPath } from "./nginx.mjs";
import { found, installFromApt } from "./program.mjs";
import { fail, install, run, runBeside } from "./ready.mjs";
import { redisPath } from "./redis.mjs";

install();
if (process.argv.includes("--quick")) quick();
needPrograms();
const types = "types of the library's own build";
await Promise.all([
  steps(
    ["lint and format", "npx", ["biome", "check", "--error-on-warnings", "."]],
    ["rooms", "node", ["scripts/rooms.mjs"]],
    ["types", "npx", ["tsc", "-p", "tsconfig.json"]],
  ),
  steps(
    [types, "npx", ["tsc", "-p", "packages/cista/tsconfig.json"]],
    ["build", "node", ["scripts/build.mjs"]],
    ["packages", "npx", ["publint", "--strict", "packages/cista"]],
    ["packages, the command", "npx", ["publint", "--strict", "packages/cli"]],
    // It is made of the docstrings (`npm run reference`). Here it is only held that it can be made, without a warning.
    ["reference", "npx", ["typedoc", "--emit", "none", "--logLevel", "Warn"]],
  ),
]);
runTests();
if (process.argv.length === 2) testMetaFrameworks();

/** `npm test -- --quick`: lint, the library's types, and the tests in Node that what is not committed reaches. */
function quick() {
  step("lint and format", "npx", ["biome", "check", "--error-on-warnings", "."]);
  step("rooms", "node", ["scripts/rooms.mjs"]);
  step("types of the library's own build", "npx", ["tsc", "-p", "packages/cista/tsconfig.json"]);
  process.env.PROVE_SEED ??= String(numberOf("HEAD:packages/cista"));
  step("tests of what has changed", "npx", ["vitest", "run", "--project", "node", "--changed", "--passWithNoTests"]);
  process.exit(0);
}

function step(title, command, args) {
  console.log(`\n── ${title}`);
  run(command, args, { env: { ...process.env, npm_config_loglevel: "error" } });
}

/** One after the other, beside others: each tells all that it has said when it has ended. */
async function steps(...list) {
  for (const [title, command, args] of list) {
    const { status, said } = await runBeside(command, args);
    console.log(`\n── ${title}\n${said}`.trimEnd());
    if (status !== 0) process.exit(status);
  }
}

/** On the machine's own date: they install from the registry, whose certificates are of today. */
function testMetaFrameworks() {
  const names = Object.keys(apps);
  const number = numberOf("HEAD");
  process.env.META_APPS = [number % names.length, (number + 3) % names.length].map((at) => names[at]).join();
  step(`meta-frameworks: ${process.env.META_APPS}`, "npx", ["vitest", "run", "--project", "meta"]);
}

/** On the machine's own date, or on the day that TEST_DAY names (see days.mjs). */
function runTests() {
  const chosen = process.argv.slice(2);
  const vitest = ["vitest", "run", ...(chosen.length > 0 ? chosen : ["--project", "!meta"])];
  process.env.PROVE_SEED ??= String(numberOf("HEAD:packages/cista"));
  const day = dayOf(process.env.TEST_DAY);
  const { TZ } = process.env;
  if (!day) return step("tests", "npx", vitest);
  if (!found(["faketime"])) installFromApt("faketime");
  if (!found(["faketime"])) fail("TEST_DAY needs faketime: install it (on Debian: apt install faketime).");
  process.env.TZ = day.zone;
  step(`tests, as if it were ${day.date} in ${day.zone}`, "faketime", [day.date, "npx", ...vitest]);
  if (TZ === undefined) delete process.env.TZ;
  else process.env.TZ = TZ;
}

/** A browser, a web server and a store that we have not written. */
function needPrograms() {
  const { CHROMIUM } = process.env;
  if (CHROMIUM && !chromiumPath()) fail(`CHROMIUM is "${CHROMIUM}", but there is no program that can be run.`);
  for (const name of ["chromium-headless-shell", "chromium"]) if (!chromiumPath()) installFromApt(name);
  if (!chromiumPath())
    fail(
      "The browser tests need Chromium: install it (on Debian: apt install chromium), or name one by CHROMIUM=/path/to/it.",
    );
  if (!nginxPath()) installFromApt("nginx-light");
  if (!nginxPath()) fail("The tests of HTTP need nginx: install it (on Debian: apt install nginx-light).");
  if (!redisPath()) installFromApt("redis-server");
  if (!redisPath()) fail("The tests of fleets need Redis: install it (on Debian: apt install redis-server).");
}
