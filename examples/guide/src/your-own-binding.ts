import type { Cache, Reading, Source, Write } from "cista";
import {
  isKnown,
  Live,
  type LiveOptions,
  type LiveParams,
  makeLiveReading,
  Runner,
  type RunWrite,
  valueNow,
  type WriteStatus,
} from "cista/binding";
import { computed, onCleanup, runEffect, signal } from "./your-framework.js";

/** A reading that is always the newest; each member is a signal of its own, made when somebody first looks at it. */
export function useReading<P, T, U = T>(
  cache: Cache,
  source: Source<P, T>,
  ...rest: LiveParams<NoInfer<P>, LiveOptions<T, U>>
): Reading<U> {
  const [params, { when = true, ...options } = {}] = rest as [unknown, LiveOptions<any, any>?];
  const live = new Live(() => signal());
  // What is asked for: the same object for as long as it is the same entry, however often the params are spelled anew.
  const asked = computed(() => {
    const now = valueNow(params);
    return live.ask(
      cache,
      source,
      now,
      { ...options, when: valueNow(when) },
      rest.length === 0 || isKnown(source, now),
    );
  });
  // Attached from now on, to what is asked for: the new entry first, then the old one is left, in one go.
  runEffect(() => {
    asked();
    live.attach();
  });
  onCleanup(() => live.leave());
  return makeLiveReading((member) => live.look(member, asked()));
}

/** Runs a write, and tells how its runs stand. */
export function useWrite<I, R>(cache: Cache, write: Write<I, R>): { run: RunWrite<I, R>; status(): WriteStatus<R> } {
  const changed = signal();
  const runner = new Runner<I, R>(write, () => changed.trigger());
  return {
    run: runner.runIn(() => cache),
    status: () => {
      changed.track();
      return runner.status;
    },
  };
}
