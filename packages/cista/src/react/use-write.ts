import { useMemo, useState } from "react";
import { Runner, type RunWrite, type WriteResult, type WriteStatus } from "../binding/runner.js";
import type { Cache, Write } from "../core/index.js";
import { useCacheOr } from "./context.js";

export type { RunWrite, WriteResult, WriteStatus };

/**
 * Runs a write, and tells how its runs stand. They go on when the component goes away. A failure is told in the status,
 * and by the result of `run`; it never rejects, so nothing need be caught.
 * @throws CistaError code "no-provider"
 * @example
 * const [runBook, booking] = useWrite(book);
 * <button disabled={booking.underWay > 0} onClick={() => runBook({ hut, night })}>Book</button>
 * {booking.failure && <p role="alert">{booking.failure.message}</p>}
 */
export function useWrite<I, R>(
  write: Write<I, R>,
  options: { cache?: Cache | undefined } = {},
): readonly [run: RunWrite<I, R>, status: WriteStatus<R>] {
  const cache = useCacheOr(options.cache);
  const [, setStatus] = useState<WriteStatus<R>>();
  const runner = useMemo(() => new Runner<I, R>(write, setStatus), [write]);
  const run = useMemo(() => runner.runIn(() => cache), [cache, runner]);
  return [run, runner.status];
}
