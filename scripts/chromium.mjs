// Finds Chromium for the browser tests: CHROMIUM names one, else the usual names are tried. First the one without windows: the same
// engine, and a page costs a quarter of the processor's time.
import { found, runnable } from "./program.mjs";

const elsewhere = [
  "/Applications/Google Chrome.app/Contents/MacOS/Google Chrome",
  "/Applications/Chromium.app/Contents/MacOS/Chromium",
];

/** The path of a browser that can be run, or undefined. */
export function chromiumPath() {
  const { CHROMIUM } = process.env;
  if (CHROMIUM) return runnable(CHROMIUM) ? CHROMIUM : undefined;
  return found(
    ["chromium-headless-shell", "chromium", "chromium-browser", "google-chrome-stable", "google-chrome"],
    elsewhere,
  );
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
