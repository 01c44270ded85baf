import { Failure } from "cista";

/** Failures since the last line, by what they say. */
const counts = new Map<string, number>();
let timer: ReturnType<typeof setTimeout> | undefined;

/**
 * Notes what a page could not show, or why it could not be rendered. One line a second at most, with a count: where the data's
 * server is slow, every page says the same.
 */
export function noteFailure(thrown: unknown): void {
  const words = thrown instanceof Failure ? `left to the browser: ${thrown.message}` : String(thrown);
  counts.set(words, (counts.get(words) ?? 0) + 1);
  timer ??= setTimeout(() => {
    timer = undefined;
    const [[first = "", count = 0] = [], ...more] = [...counts].sort(([, one], [, other]) => other - one);
    const others = more.reduce((sum, [, each]) => sum + each, 0);
    counts.clear();
    console.error(`${count} × ${first}${others > 0 ? ` (and ${others} of ${more.length} other kinds)` : ""}`);
  }, 1000);
  timer.unref();
}
