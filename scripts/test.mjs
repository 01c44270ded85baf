// `npm test`: everything that is missing, then types, lint, build, package check, and the tests of the library,
// of the command and of the examples, in Node and in a real browser. Nothing is left out quietly.
// Random tests take their seed from the library as it is committed: the same code is tried by the same programs everywhere.
// `--quick` tests only what is not committed yet, in Node, in about a minute.
// TEST_DAY=0 to 5 runs the tests on another date, in another time zone; TEST_DAY=commit lets the commit choose.
import { chromiumPath } from "./chromium.mjs";
import { dayOf, numberOf } from "./days.mjs";
import { nginxPath } from "./nginx.mjs";
import { found, installFromApt } from "./program.mjs";
import { build, fail, install, run } from "./ready.mjs";
import { redisPath } from "./redis.mjs";

install();
if (process.argv.includes("--quick")) quick();
needPrograms();
step("lint and format", "npx", ["biome", "check", "--error-on-warnings", "."]);
step("rooms", "node", ["scripts/rooms.mjs"]);
step("types", "npx", ["tsc", "-p", "tsconfig.json"]);
step("types of the library's own build", "npx", ["tsc", "-p", "packages/cista/tsconfig.json"]);
build();
step("packages", "npx", ["publint", "--strict", "packages/cista"]);
step("packages, the command", "npx", ["publint", "--strict", "packages/cli"]);
reference();
runTests();
// On the machine's own date: they install from the registry, whose certificates are of today.
if (process.argv.length === 2) step("meta-frameworks", "npx", ["vitest", "run", "--project", "meta"]);

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

/** The reference is made of the docstrings (`npm run reference`): here it is only held that it can be made, without a warning. */
function reference() {
  step("reference", "npx", ["typedoc", "--emit", "none", "--logLevel", "Warn"]);
}

/** A browser, a web server and a store that we have not written. */
function needPrograms() {
  const { CHROMIUM } = process.env;
  if (CHROMIUM && !chromiumPath()) fail(`CHROMIUM is "${CHROMIUM}", but there is no program that can be run.`);
  if (!chromiumPath()) installFromApt("chromium");
  if (!chromiumPath())
    fail(
      "The browser tests need Chromium: install it (on Debian: apt install chromium), or name one by CHROMIUM=/path/to/it.",
    );
  if (!nginxPath()) installFromApt("nginx-light");
  if (!nginxPath()) fail("The tests of HTTP need nginx: install it (on Debian: apt install nginx-light).");
  if (!redisPath()) installFromApt("redis-server");
  if (!redisPath()) fail("The tests of fleets need Redis: install it (on Debian: apt install redis-server).");
}
