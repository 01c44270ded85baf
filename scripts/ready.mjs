// Shared by `npm run demo` and `npm test`: installs and builds what is missing, with nothing but Node and npm.
import { spawn, spawnSync } from "node:child_process";
import { existsSync, readdirSync, statSync } from "node:fs";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";

export const root = dirname(dirname(fileURLToPath(import.meta.url)));

/** Runs a command in the project's root; ends this process with its exit code where it fails. */
export function run(command, args, options = {}) {
  const { status, error } = spawnSync(command, args, { cwd: root, stdio: "inherit", ...options });
  if (error) fail(`${command} could not be run: ${error.message}`);
  if (status !== 0) process.exit(status ?? 1);
}

/** Runs a command in the project's root while others run. @returns its exit code, and all that it has said */
export function runBeside(command, args) {
  return new Promise((resolve) => {
    const env = { ...process.env, npm_config_loglevel: "error" };
    const child = spawn(command, args, { cwd: root, env, stdio: ["ignore", "pipe", "pipe"] });
    let said = "";
    for (const stream of [child.stdout, child.stderr]) stream.on("data", (piece) => (said += piece));
    child.on("error", ({ message }) => resolve({ status: 1, said: `${command} could not be run: ${message}` }));
    child.on("close", (code) => resolve({ status: code ?? 1, said }));
  });
}

export function fail(message) {
  console.error(message);
  process.exit(1);
}

/** Installs the packages that package-lock.json names, unless that has been done since it last changed. */
export function install() {
  const [major = 0, minor = 0] = process.versions.node.split(".").map(Number);
  if (major < 20 || (major === 20 && minor < 19)) fail(`Node 20.19 or newer is needed; this is ${process.version}.`);
  const done = join(root, "node_modules/.package-lock.json");
  if (existsSync(done) && statSync(done).mtimeMs >= statSync(join(root, "package-lock.json")).mtimeMs) return;
  console.log("Installing packages (once) …");
  // Not "npm ci": it refuses a lock file that was written where not every platform's optional packages could be seen.
  run("npm", ["install", "--no-save", "--no-audit", "--no-fund", "--loglevel=error"]);
}

/** Builds the library, the board and the command, unless nothing that they are made of is newer than they are. */
export function build() {
  const made = join(root, "packages/cli/dist/board/index.html");
  const boards = ["react", "server", "shared", "vue", "svelte", "solid", "angular", "lit", "preact", "plain"];
  const sources = ["packages/cista", "packages/cli", "examples/origin", "package-lock.json"].concat(
    boards.map((name) => `examples/board-${name}`),
  );
  if (existsSync(made) && sources.every((path) => newest(join(root, path)) <= statSync(made).mtimeMs)) return;
  console.log("Building …");
  const { status, stdout, stderr } = spawnSync("npm", ["run", "build", "--loglevel=error"], {
    cwd: root,
    encoding: "utf8",
  });
  if (status !== 0) fail(`${stdout}${stderr}\nThe build failed.`);
}

function newest(path) {
  const stat = statSync(path);
  if (!stat.isDirectory()) return stat.mtimeMs;
  const names = readdirSync(path).filter((name) => !["node_modules", "dist", "test"].includes(name));
  return Math.max(0, ...names.map((name) => newest(join(path, name))));
}
