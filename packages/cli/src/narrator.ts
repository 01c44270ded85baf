import type { Cache, JournalEvent } from "cista";
import { entriesOf, journalOf } from "cista";
import { colours } from "./terminal.js";

const told = new Set([
  ...["read", "attach", "request", "answer", "unchanged", "missing", "retry", "failure", "abort"],
  ...["write", "layer", "settle", "invalidate"],
]);

/** Prints a cache's journal as it is written, a line for each event that a reader would ask about. */
export function narrate(cache: Cache, print: (line: string) => void): { reads(): number } {
  print(colours.dim(columns("time", "what", "key", "state", "Cache-Status (RFC 9211), and why")));
  let start: number | undefined;
  let reads = 0;
  journalOf(cache).subscribe((event) => {
    if (event.kind === "read" || event.kind === "attach") reads++;
    if (!told.has(event.kind)) return;
    start ??= event.at;
    print(line(event, event.at - start, stateOf(cache, event.key)));
  });
  return { reads: () => reads };
}

function line(event: JournalEvent, elapsed: number, state: string): string {
  const time = `${(elapsed / 1000).toFixed(3)} s`;
  return columns(time, event.kind, event.key ?? event.write ?? "", state, explanation(event), colourOf(event));
}

const plain = (text: string) => text;

function columns(time: string, kind: string, key: string, state: string, why: string, colour = plain): string {
  return `${colours.dim(time.padStart(9))}  ${colour(kind.padEnd(10))}  ${key.padEnd(19)}  ${state.padEnd(7)}  ${why}`.trimEnd();
}

function explanation({ cacheStatus, failure, duration, note, kind, key, write, attempt }: JournalEvent): string {
  const parts = [cacheStatus ?? ""];
  if (kind === "write" && attempt) parts.push(attempt === 1 ? "sent" : `sent again, try ${attempt}`);
  if (key && write) parts.push(`by ${write}`);
  if (kind === "settle") parts.push(failure ? `refused: ${failure.problem?.title ?? failure.kind}` : (note ?? "done"));
  if (kind === "retry") parts.push(`${failure?.status ?? failure?.kind}: again in ${Math.round(duration ?? 0)} ms`);
  if (kind === "failure") parts.push(failure?.kind ?? "");
  if (note) parts.push(note);
  return parts.filter(Boolean).join("  ");
}

function stateOf(cache: Cache, key: string | undefined): string {
  for (const entry of entriesOf(cache)) if (entry.key === key) return entry.reading.state;
  return "";
}

function colourOf({ kind, cacheStatus, failure }: JournalEvent): (text: string) => string {
  if (kind === "settle" && failure) return colours.red;
  if (kind === "failure" || kind === "abort" || kind === "retry") return colours.red;
  if (kind === "request" || kind === "write") return colours.yellow;
  if (kind === "answer" || kind === "settle" || kind === "unchanged" || cacheStatus?.includes("; hit"))
    return colours.green;
  return colours.cyan;
}
