import { setTimeout as pause } from "node:timers/promises";
import { shareFleet } from "cista/fleet";
import { Redis } from "ioredis";
import { colours } from "../terminal.js";
import { type EntrySeen, entriesOf, fleetsOf, invalidationsOf, type ProcessSeen, processesOf } from "./inspect.js";
import { entryTable, invalidationLines, processTable } from "./table.js";

/** Which fleet, and where what is found goes. */
export interface FleetWords {
  readonly redis: string;
  readonly name: string | undefined;
  /** Of the terminal, in characters. */
  readonly width: number;
  print(text: string): void;
}

/** What can be said to the one who has called, and mended by them. */
export class FleetTrouble extends Error {}

/** What the processes of a fleet do, shown anew until it is ended. @param clear called before each time but the first */
export async function watchFleet({
  once,
  clear,
  ...words
}: FleetWords & { once: boolean; clear(): void }): Promise<void> {
  await withFleet(words, async (redis, name, shownUrl) => {
    let before: ProcessSeen[] = [];
    let at = 0;
    for (let n = 0; ; n++) {
      const processes = await processesOf(redis, name);
      const invalidations = await invalidationsOf(redis, name, 5);
      if (n > 0) clear();
      words.print(
        [
          `${colours.bold(`Fleet ${name}`)} on ${shownUrl}: ${processes.length} ${processes.length === 1 ? "process" : "processes"}`,
          "",
          processes.length > 0
            ? processTable(processes, before, performance.now() - at, words.width)
            : "No process of it has been heard of in the last minute.",
          "",
          invalidations.length > 0
            ? `Invalidated last:\n${invalidationLines(invalidations, processes)}`
            : "Nothing has been invalidated yet.",
          ...(once ? [] : ["", colours.dim("Ctrl-C ends this. It reads only.")]),
        ].join("\n"),
      );
      if (once) return;
      before = processes;
      at = performance.now();
      await pause(1000);
    }
  });
}

export async function fleetFigures({ json, ...words }: FleetWords & { json: boolean }): Promise<void> {
  await withFleet(words, async (redis, name) => {
    const processes = await processesOf(redis, name);
    words.print(
      json ? JSON.stringify({ fleet: name, processes }, undefined, 2) : processTable(processes, [], 0, words.width),
    );
  });
}

export async function fleetKeys({
  json,
  values,
  group,
  most,
  ...words
}: FleetWords & { json: boolean; values: boolean; group: string | undefined; most: number }): Promise<void> {
  await withFleet(words, async (redis, name) => {
    const { entries, isAll } = await entriesOf(redis, name, { group, most, withValues: values });
    if (json) words.print(JSON.stringify({ fleet: name, entries, isAll }, undefined, 2));
    else words.print(inWords(entries, isAll, values, group));
  });
}

function inWords(entries: readonly EntrySeen[], isAll: boolean, values: boolean, group: string | undefined): string {
  if (entries.length === 0)
    return group === undefined ? "Nothing is stored." : `Nothing that is stored bears the group ${group}.`;
  const parts = [entryTable(entries)];
  if (values)
    for (const { key, value = "" } of entries)
      parts.push(`\n${colours.bold(key)}\n${value === "" ? "(known to be missing)" : value}`);
  if (!isAll) parts.push(`\n… and more: --limit <number> shows them.`);
  return parts.join("\n");
}

/** Calls out of date, and waits until every process has heard. */
export async function invalidateInFleet({
  groups,
  keys,
  sources,
  partition,
  ...words
}: FleetWords & {
  groups: string[];
  keys: string[];
  sources: string[];
  /** Whose the keys are. */
  partition: string | undefined;
}): Promise<void> {
  await withFleet(words, async (redis, name) => {
    const asSources = (names: readonly string[]) => [...new Set(names)].map((source) => ({ name: source })) as never[];
    const ofKeys = asSources(keys.map((key) => key.split(" ")[0] ?? key));
    const fleet = shareFleet({
      redis: redis as never,
      name,
      ...(partition === undefined ? { sources: ofKeys } : { perUser: ofKeys }),
      timeout: "5s",
      processName: "cista fleet invalidate",
    });
    try {
      const whose = partition === undefined ? {} : { partition };
      const isTold = await fleet.invalidate({ groups, keys, sources: asSources(sources), ...whose });
      if (!isTold) throw new FleetTrouble("Redis did not answer: nothing was invalidated.");
    } finally {
      fleet.close();
    }
    const what = [
      ...groups.map((group) => `group ${group}`),
      ...sources.map((source) => `source ${source}`),
      ...keys.map((key) => (partition === undefined ? key : `${key} (of ${partition})`)),
    ];
    words.print(`Invalidated in the whole fleet ${name}: ${what.join(", ")}.`);
  });
}

/** With a connection, and the fleet's name: the only one that there is, where none is given. */
async function withFleet(
  { redis: url, name }: FleetWords,
  use: (redis: Redis, name: string, shownUrl: string) => Promise<void>,
): Promise<void> {
  const redis = new Redis(url, { lazyConnect: true, maxRetriesPerRequest: 1, retryStrategy: () => null });
  let why = "it does not answer";
  redis.on("error", ({ message }: Error) => {
    why = message;
  });
  const shown = new URL(url);
  shown.password = shown.search = "";
  try {
    await redis.connect().catch(() => {
      throw new FleetTrouble(`Redis cannot be reached at ${shown.href}: ${why}. Name another by --redis <url>.`);
    });
    await use(redis, name ?? (await onlyFleet(redis)), shown.href);
  } finally {
    redis.disconnect();
  }
}

async function onlyFleet(redis: Redis): Promise<string> {
  const [name, ...others] = await fleetsOf(redis);
  if (name === undefined)
    throw new FleetTrouble("No fleet has been heard of there in the last hour. Name one by --name <name>.");
  if (others.length > 0)
    throw new FleetTrouble(`There are several fleets: ${[name, ...others].join(", ")}. Name one by --name <name>.`);
  return name;
}
