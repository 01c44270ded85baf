import type { Browser } from "playwright";

/** A real Chromium, whose pages are waited for patiently. */
export function launchChromium(): Promise<Browser>;
