// Finds Chromium for the browser tests: CHROMIUM names one, else the usual names are tried.
import { accessSync, constants } from "node:fs";
import { delimiter, join } from "node:path";

const names = ["chromium", "chromium-browser", "google-chrome-stable", "google-chrome"];
const elsewhere = [
  "/Applications/Google Chrome.app/Contents/MacOS/Google Chrome",
  "/Applications/Chromium.app/Contents/MacOS/Chromium",
];

/** The path of a browser that can be run, or undefined. */
export function chromiumPath() {
  const { CHROMIUM, PATH = "" } = process.env;
  if (CHROMIUM) return runnable(CHROMIUM) ? CHROMIUM : undefined;
  const candidates = [
    ...PATH.split(delimiter).flatMap((folder) => names.map((name) => join(folder, name))),
    ...elsewhere,
  ];
  return candidates.find(runnable);
}

function runnable(path) {
  try {
    accessSync(path, constants.X_OK);
    return true;
  } catch {
    return false;
  }
}

/** Without a sandbox of its own (it may run as root) and without calls home. */
export const browserArguments = [
  "--no-sandbox",
  "--disable-gpu",
  "--disable-quic",
  "--no-first-run",
  "--disable-background-networking",
  "--disable-component-update",
  "--disable-sync",
];
