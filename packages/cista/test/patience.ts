import { vi } from "vitest";

/** As `expect.poll` in vitest.config.ts: no test is about how quick a machine is. Milliseconds. */
const patience = 180_000;

const { waitFor } = vi;
vi.waitFor = (callback, options) =>
  waitFor(callback, { timeout: patience, ...(typeof options === "number" ? { timeout: options } : options) });
