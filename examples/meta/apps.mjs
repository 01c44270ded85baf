// The applications of this folder: made in a folder of their own with the packed library, built, started, and driven in a browser.
import { execFileSync, spawn } from "node:child_process";
import { cpSync, mkdtempSync, rmSync } from "node:fs";
import { createServer } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { startOrigin } from "./origin.mjs";

const here = fileURLToPath(new URL(".", import.meta.url));
const root = join(here, "../..");

/** Where each application has its sources. */
export const apps = {
  "angular-ssr": "src/app",
  astro: "src",
  next: "app",
  nuxt: "app",
  "react-router": "app",
  "solid-router": "src",
  sveltekit: "src/lib",
};

/** The library as `npm publish` would pack it. */
export function packLibrary(folder) {
  const args = ["pack", "--json", "--ignore-scripts", "--pack-destination", folder];
  const packed = execFileSync("npm", args, { cwd: join(root, "packages/cista"), stdio: ["ignore", "pipe", "ignore"] });
  return join(folder, JSON.parse(String(packed))[0].filename);
}

/** @returns the folder, and all that the build has said */
export async function build(name, library, folder = mkdtempSync(join(tmpdir(), `cista-${name}-`))) {
  cpSync(join(here, name), folder, { recursive: true });
  cpSync(join(here, "sources.ts"), join(folder, apps[name], "sources.ts"));
  const installed = await run("npm", ["install", "--no-audit", "--no-fund", "--loglevel=error", library], folder);
  const built = await run("npm", ["run", "build"], folder, { ORIGIN: "http://127.0.0.1:9" });
  return { folder, said: installed + built };
}

/** A running application behind its origin. `close` ends both. */
export async function start(folder) {
  const port = await freePort();
  const origin = await startOrigin(port);
  const env = { ...environment, PORT: String(port), HOST: "127.0.0.1", ORIGIN: origin.url, NODE_ENV: "production" };
  const app = spawn("npm", ["start"], { cwd: folder, env, detached: true, stdio: ["ignore", "pipe", "pipe"] });
  let said = "";
  for (const stream of [app.stdout, app.stderr]) stream.on("data", (piece) => (said += piece));
  const close = async () => {
    process.kill(-app.pid, "SIGKILL");
    await origin.close();
  };
  for (let tries = 0; !(await answers(`${origin.url}/hut/h-01`)); tries++) {
    if (tries < 300 && app.exitCode === null) continue;
    await close();
    throw new Error(`The application does not answer:\n${said}`);
  }
  origin.takeAsked();
  return { origin, close, said: () => said };
}

/** As a terminal has it: what vitest says of NODE_ENV would make a development build. */
const { NODE_ENV: _, ...own } = process.env;
const environment = {
  ...own,
  NUXT_TELEMETRY_DISABLED: "1",
  NEXT_TELEMETRY_DISABLED: "1",
  ASTRO_TELEMETRY_DISABLED: "1",
  NG_CLI_ANALYTICS: "false",
  CI: "1",
};

async function answers(url) {
  const response = await fetch(url).catch(() => undefined);
  if (response && response.status < 500) return true;
  await new Promise((resolve) => setTimeout(resolve, 200));
  return false;
}

/** Rejects with all that it has said where it fails. */
function run(command, args, cwd, env = {}) {
  return new Promise((resolve, reject) => {
    const child = spawn(command, args, { cwd, env: { ...environment, ...env }, stdio: ["ignore", "pipe", "pipe"] });
    let said = "";
    for (const stream of [child.stdout, child.stderr]) stream.on("data", (piece) => (said += piece));
    child.on("close", (code) => {
      if (code === 0) resolve(said);
      else reject(new Error(`${command} ${args.join(" ")} failed in ${cwd}:\n${said}`));
    });
  });
}

function freePort() {
  return new Promise((resolve) => {
    const probe = createServer().listen(0, "127.0.0.1", () => {
      const { port } = probe.address();
      probe.close(() => resolve(port));
    });
  });
}

export const remove = (folder) => rmSync(folder, { recursive: true, force: true });
