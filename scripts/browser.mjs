import { chromium } from "playwright";
import { browserArguments, chromiumPath } from "./chromium.mjs";

/** In milliseconds. No test is about how quick a machine is: this ends one that hangs. */
const patience = 300_000;

/** A real Chromium, whose pages are waited for patiently. */
export async function launchChromium() {
  const browser = await chromium.launch({ executablePath: chromiumPath() ?? "chromium", args: browserArguments });
  browser.on("context", (context) => {
    context.setDefaultTimeout(patience);
    context.setDefaultNavigationTimeout(patience);
  });
  return browser;
}
