import type { Failure, Journal, JournalEvent } from "../core/index.js";

/** Writes a cache's journal down as text. */
export interface JournalRecorder {
  /** What was written so far: one JSON object a line, as docs/journal-format.md describes it. */
  text(): string;
  readonly events: readonly JournalEvent[];
  stop(): void;
}

/** Records from now on. @param write gets each line as it is written, without its line feed */
export function recordJournal(journal: Journal, write: (line: string) => void = () => {}): JournalRecorder {
  const events: JournalEvent[] = [];
  const lines: string[] = [];
  const stop = journal.subscribe((event) => {
    events.push(event);
    const line = journalLine(event);
    lines.push(line);
    write(line);
  });
  return { text: () => lines.map((line) => `${line}\n`).join(""), events, stop };
}

/** One event as a line of JSON. A failure is written by its kind, message, status and number of tries: never what caused it. */
export function journalLine({ failure, ...event }: JournalEvent): string {
  return JSON.stringify(failure ? { ...event, failure: inShort(failure) } : event);
}

function inShort({ kind, message, status, attempts }: Failure): object {
  return { kind, message, status, attempts };
}
