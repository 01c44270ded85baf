import Table from "cli-table3";
import { colours } from "../terminal.js";
import type { EntrySeen, InvalidationSeen, ProcessSeen } from "./inspect.js";

/** Columns without lines between them; numbers stand to the right. */
function table(head: readonly string[], rows: readonly (readonly string[])[]): string {
  const none = { top: "", "top-mid": "", "top-left": "", "top-right": "", bottom: "", "bottom-mid": "" };
  const sides = { "bottom-left": "", "bottom-right": "", left: "", "left-mid": "", mid: "", "mid-mid": "" };
  const isNumber = head.map((_, n) => rows.length > 0 && rows.every((row) => /^(?:\d|–|$)/.test(row[n] ?? "")));
  const made = new Table({
    head: [...head],
    chars: { ...none, ...sides, right: "", "right-mid": "", middle: "  " },
    style: { head: [], border: [], "padding-left": 0, "padding-right": 0 },
    colAligns: isNumber.map((each) => (each ? "right" : "left")),
  });
  made.push(...rows.map((row) => [...row]));
  const [first = "", ...rest] = made
    .toString()
    .split("\n")
    .map((line) => line.trimEnd());
  return [colours.dim(first), ...rest].join("\n");
}

/** Milliseconds in words: 350 ms, 12 s, 3 min, 2 h, 5 d. */
export function lengthOfTime(length: number): string {
  if (length < 1000) return `${Math.round(length)} ms`;
  if (length < 120_000) return `${Math.floor(length / 1000)} s`;
  if (length < 7_200_000) return `${Math.floor(length / 60_000)} min`;
  return length < 172_800_000 ? `${Math.floor(length / 3_600_000)} h` : `${Math.floor(length / 86_400_000)} d`;
}

function size(bytes: number): string {
  return bytes < 1000
    ? `${bytes} B`
    : bytes < 1_000_000
      ? `${(bytes / 1000).toFixed(1)} kB`
      : `${(bytes / 1e6).toFixed(1)} MB`;
}

const hits = ({ figures }: ProcessSeen) => count(figures, "memoryHits", "storeHits", "staleHits", "joined");
const count = (figures: ProcessSeen["figures"], ...names: string[]) =>
  names.reduce((sum, name) => sum + (figures[name] ?? 0), 0);

type Figure = (process: ProcessSeen) => number;
const counted =
  (name: string): Figure =>
  ({ figures }) =>
    count(figures, name);
/** What each process has done, by its column; a narrow terminal goes without the last ones. */
const columns: readonly (readonly [head: string, figure: Figure])[] = [
  ["memory", counted("memoryHits")],
  ["store", counted("storeHits")],
  ["asked", counted("requests")],
  ["leases", counted("leases")],
  ["invalidated", counted("invalidations")],
  ["stale", counted("staleHits")],
  ["joined", counted("joined")],
  ["waited", counted("waited")],
  ["heard", counted("heard")],
  ["failures", counted("storeFailures")],
];

/**
 * @param before the same a moment ago, for what happens each second
 * @param width of the terminal, in characters
 */
export function processTable(
  processes: readonly ProcessSeen[],
  before: readonly ProcessSeen[],
  elapsed: number,
  width: number,
): string {
  const shown = width < 110 ? columns.slice(0, 5) : columns;
  const rates = [hits, counted("requests")].map((of) =>
    processes.map((process) => {
      const earlier = before.find(({ name }) => name === process.name);
      return earlier && elapsed > 0 ? Math.round(((of(process) - of(earlier)) * 1000) / elapsed) : undefined;
    }),
  );
  const rateText = (rate: number | undefined) => (rate === undefined ? "–" : String(rate));
  const rows = processes.map((process, n) => [
    process.silentFor > 2000 ? `${process.title} (silent for ${lengthOfTime(process.silentFor)})` : process.title,
    lengthOfTime(process.uptime),
    ...rates.map((list) => rateText(list[n])),
    ...shown.map(([, figure]) => String(figure(process))),
  ]);
  const all = [
    "all",
    "",
    ...rates.map((list) =>
      rateText(
        list.reduce<number | undefined>((sum, rate) => (rate === undefined ? sum : (sum ?? 0) + rate), undefined),
      ),
    ),
    ...shown.map(([, figure]) => String(processes.reduce((sum, process) => sum + figure(process), 0))),
  ];
  const head = ["process", "up", "hits/s", "asked/s", ...shown.map(([name]) => name)];
  return table(head, processes.length > 1 ? [...rows, all] : rows);
}

export function invalidationLines(
  invalidations: readonly InvalidationSeen[],
  processes: readonly ProcessSeen[],
): string {
  const titleOf = (name: string) => processes.find((process) => process.name === name)?.title ?? name;
  return invalidations
    .map(({ ago, by, what }) => {
      const more = what.length > 4 ? `, and ${what.length - 4} more` : "";
      return `  ${lengthOfTime(ago)} ago, by ${titleOf(by)}: ${what.slice(0, 4).join(", ")}${more}`;
    })
    .join("\n");
}

/** Labels that are an entry's URL say what its key says, and are left out. */
export function entryTable(entries: readonly EntrySeen[]): string {
  const rows = entries.map(({ key, partition, state, age, lifetime, keptFor, bytes, groups }) => [
    short(partition === undefined ? key : `${key} (of ${partition})`, 60),
    state,
    lengthOfTime(age),
    lifetime === null ? "–" : lengthOfTime(lifetime),
    keptFor < 0 ? "–" : lengthOfTime(keptFor),
    size(bytes),
    short(groups.filter((group) => !/^https?:/.test(group)).join(", "), 60),
  ]);
  return table(["entry", "", "age", "lifetime", "kept for", "size", "groups"], rows);
}

function short(text: string, most: number): string {
  return text.length > most ? `${text.slice(0, most - 1)}…` : text;
}
