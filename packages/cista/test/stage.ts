import {
  type Cache,
  type CacheOptions,
  createCache,
  type JournalEvent,
  journalOf,
  restoreSnapshot,
  type Snapshot,
  type Source,
  type SourceDefinition,
  source,
} from "cista";
import { type VirtualClock, type VirtualEnvironment, virtualClock, virtualEnvironment } from "cista/rehearsal";

/** A cache under a clock and an environment that stand still until a test moves them, with its journal written down. */
export interface Stage {
  readonly cache: Cache;
  readonly clock: VirtualClock;
  readonly environment: VirtualEnvironment;
  readonly events: JournalEvent[];
  /** The kinds of what happened so far, and for what cause. */
  kinds(): string[];
}

/**
 * @param options the cache's, a snapshot to begin with, and what the clock says at first, in milliseconds since the Unix epoch
 */
export function stage({
  snapshot,
  now = Date.UTC(2026, 10, 23, 18),
  ...options
}: CacheOptions & { snapshot?: Snapshot; now?: number } = {}): Stage {
  const clock = virtualClock(now);
  const environment = virtualEnvironment();
  const cache = createCache({ clock, environment, ...options });
  if (snapshot !== undefined) restoreSnapshot(cache, snapshot);
  const events: JournalEvent[] = [];
  journalOf(cache).subscribe((event) => events.push(event));
  return {
    cache,
    clock,
    environment,
    events,
    kinds: () => events.map(({ kind, cause }) => (cause ? `${kind}:${cause}` : kind)),
  };
}

/** With a real server, whose answers are dated by the machine's clock. */
export function stageWithServer(): Stage {
  return stage({ now: Date.now() });
}

/** A load that answers only when the test says so. */
export interface Held {
  readonly params: any;
  readonly signal: AbortSignal;
  readonly cause: string;
  readonly mode: string;
  readonly attempt: number;
  answer(value: unknown): void;
  fail(thrown: unknown): void;
}

/** A source whose loads wait for the test, in the order in which they began. */
export function heldSource(
  name: string,
  definition: Partial<SourceDefinition<any, any, any>> = {},
): { source: Source<any, any>; loads: Held[] } {
  const loads: Held[] = [];
  const held = source<any, Promise<any>>({
    retry: false,
    ...definition,
    name,
    load: (params, { signal, cause, mode, attempt }) =>
      new Promise((answer, fail) => loads.push({ params, signal, cause, mode, attempt, answer, fail })),
  });
  return { source: held, loads };
}

/** A view's listener that writes down what it was shown each time. */
export function watch(cache: Cache, watched: any, params?: any, options?: any) {
  const view = cache.view<any, any, any>(watched, params, options);
  const seen: string[] = [];
  const leave = view.subscribe(() => seen.push(inShort(view.get())));
  return { view, seen, leave };
}

/** A reading in a few words: "ready 3 stale running". */
export function inShort(reading: any): string {
  const parts = [reading.state];
  if (reading.value !== undefined) parts.push(JSON.stringify(reading.value));
  if (reading.provisional) parts.push(reading.provisional);
  if (reading.fresh === false) parts.push("stale");
  if (reading.request !== "none") parts.push(reading.request);
  if (reading.failure) parts.push(`(${reading.failure.kind})`);
  return parts.join(" ");
}
