// Finds programs that the tests need; on Debian as root they are installed from apt where there are none.
import { spawnSync } from "node:child_process";
import { accessSync, constants, existsSync, readFileSync } from "node:fs";
import { delimiter, join } from "node:path";

/** The first of these that can be run, by its name in PATH or by its whole path; or undefined. */
export function found(names, elsewhere = []) {
  const folders = [...(process.env.PATH ?? "").split(delimiter), "/usr/sbin"];
  return [...folders.flatMap((folder) => names.map((name) => join(folder, name))), ...elsewhere].find(runnable);
}

/**
 * An environment in which nginx and Redis go by the machine's clock, where `npm test` has laid the clock of another day over it.
 * Redis does not start with such a clock. nginx empties its environment, so that its clock leaps to today after ten seconds:
 * every request that it then has under way has timed out. A test of the dates that nginx sends has it keep that environment.
 */
export function environmentOfToday() {
  const { LD_PRELOAD: _, ...env } = process.env;
  return env;
}

export function runnable(path) {
  try {
    accessSync(path, constants.X_OK);
    return true;
  } catch {
    return false;
  }
}

/** Installs a Debian package, if this is Debian and we may. */
export function installFromApt(name) {
  const debian = existsSync("/etc/os-release") && /^ID(_LIKE)?=.*debian/m.test(readFileSync("/etc/os-release", "utf8"));
  if (!debian || process.getuid?.() !== 0) return;
  console.log(`Installing ${name} from apt (once) …`);
  const quiet = {
    stdio: ["ignore", "ignore", "inherit"],
    env: { ...process.env, DEBIAN_FRONTEND: "noninteractive" },
  };
  spawnSync("apt-get", ["update", "-qq"], quiet);
  spawnSync("apt-get", ["install", "-y", "-qq", "--no-install-recommends", name], quiet);
}
