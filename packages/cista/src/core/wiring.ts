import type { Entry } from "./entry.js";
import type { Groups } from "./groups.js";
import type { Idle } from "./idle.js";
import type { EventDetails, JournalKind, Recorder } from "./journal.js";
import type { Notifier } from "./notifier.js";
import type { Schedule } from "./schedule.js";
import type { Clock, Environment } from "./seams.js";
import type { Shelves } from "./shelf.js";

/** What the rooms of one cache share. */
export interface Wiring {
  readonly clock: Clock;
  readonly environment: Environment;
  /** The clock's time when the cache was made: entries count from there. */
  readonly epoch: number;
  readonly shelves: Shelves;
  readonly groups: Groups;
  readonly idle: Idle;
  readonly schedule: Schedule<Entry>;
  readonly notifier: Notifier;
  readonly recorder: Recorder;
  /** Milliseconds since the epoch. */
  now(): number;
  /** The next number of the counter that only goes up (rule R2). */
  nextVersion(): number;
}

/** Records what happened to an entry. Ask `recorder.listening` first where the details cost something. */
export function record(wiring: Wiring, kind: JournalKind, entry: Entry, details: EventDetails = {}): void {
  if (!wiring.recorder.listening) return;
  wiring.recorder.record(kind, { key: entry.key, source: entry.shelf.source.name, ...details });
}
