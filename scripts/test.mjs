// `npm test`: everything that is missing, then types, lint, build, package check, and the tests of the library,
// of the command and of the examples, in Node and in a real browser. Nothing is left out quietly.
import { spawnSync } from "node:child_process";
import { existsSync, readFileSync } from "node:fs";
import { join } from "node:path";
import { chromiumPath } from "./chromium.mjs";
import { build, fail, install, root, run } from "./ready.mjs";

install();
needChromium();
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

/** Finds Chromium; on Debian as root it is installed where there is none. */
function needChromium() {
  if (chromiumPath()) return;
  if (process.env.CHROMIUM) fail(`CHROMIUM is "${process.env.CHROMIUM}", but there is no program that can be run.`);
  const debian = existsSync("/etc/os-release") && /^ID(_LIKE)?=.*debian/m.test(readFileSync("/etc/os-release", "utf8"));
  if (debian && process.getuid?.() === 0) {
    console.log("Installing Chromium from apt (once) …");
    const quiet = {
      stdio: ["ignore", "ignore", "inherit"],
      env: { ...process.env, DEBIAN_FRONTEND: "noninteractive" },
    };
    spawnSync("apt-get", ["update", "-qq"], { cwd: root, ...quiet });
    spawnSync("apt-get", ["install", "-y", "-qq", "--no-install-recommends", "chromium"], {
      cwd: join(root),
      ...quiet,
    });
  }
  if (!chromiumPath()) {
    fail(
      "The browser tests need Chromium: install it (on Debian: apt install chromium), or name one by CHROMIUM=/path/to/it.",
    );
  }
}
