// `npm test`: everything that is missing, then types, lint, build, package check, and the tests of the library,
// of the command and of the examples, in Node and in a real browser. Nothing is left out quietly.
import { chromiumPath } from "./chromium.mjs";
import { nginxPath } from "./nginx.mjs";
import { installFromApt } from "./program.mjs";
import { build, fail, install, run } from "./ready.mjs";

install();
needPrograms();
step("lint and format", "npx", ["biome", "check", "--error-on-warnings", "."]);
step("types", "npx", ["tsc", "-p", "tsconfig.json"]);
step("types of the library's own build", "npx", ["tsc", "-p", "packages/cista/tsconfig.json"]);
build();
step("package", "npx", ["publint", "--strict", "packages/cista"]);
step("tests", "npx", ["vitest", "run", ...process.argv.slice(2)]);

function step(title, command, args) {
  console.log(`\n── ${title}`);
  run(command, args, { env: { ...process.env, npm_config_loglevel: "error" } });
}

/** A browser and a web server that we have not written. */
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
}
