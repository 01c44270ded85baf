/** Runs a foreign callback. An error of it is reported as uncaught, and the caller goes on. */
export function guarded(callback: () => void): void {
  try {
    callback();
  } catch (thrown) {
    report(thrown);
  }
}

/** As for an uncaught error: `reportError` where there is one (WHATWG HTML §8.1.4.3), else the console. */
export function report(thrown: unknown): void {
  const { reportError, console } = globalThis as {
    reportError?: (thrown: unknown) => void;
    console: { error(thrown: unknown): void };
  };
  if (reportError) reportError(thrown);
  else console.error(thrown);
}
