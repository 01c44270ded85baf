import type { Redis } from "ioredis";

// What a fleet has in Redis, read and never written: by docs/fleet-protocol.md.

/** One process, as it has told of itself. */
export interface ProcessSeen {
  /** Its name in the fleet, and what it calls itself. */
  readonly name: string;
  readonly title: string;
  /** Milliseconds since it was heard of, and since it began. */
  readonly silentFor: number;
  readonly uptime: number;
  /** Caches that share there now. */
  readonly caches: number;
  readonly figures: Readonly<Record<string, number>>;
}

export interface InvalidationSeen {
  /** Milliseconds ago. */
  readonly ago: number;
  readonly by: string;
  /** Groups, sources and keys, as one says them. */
  readonly what: readonly string[];
}

export interface EntrySeen {
  readonly key: string;
  /** Whose, where it is one user's. */
  readonly partition?: string;
  readonly state: "fresh" | "stale" | "invalid";
  /** Milliseconds; null is for ever. */
  readonly age: number;
  readonly lifetime: number | null;
  readonly keptFor: number;
  /** Bytes of its JSON. */
  readonly bytes: number;
  readonly groups: readonly string[];
  /** JSON; only where it was asked for. */
  readonly value?: string;
}

/** Who has not been heard of for so long is not shown, in milliseconds. */
const gone = 60_000;

/** The names of the fleets that this Redis knows. */
export async function fleetsOf(redis: Redis): Promise<string[]> {
  const keys = await scan(redis, "{*}:members");
  return keys.map((key) => /^\{(.*)\}:members$/.exec(key)?.[1] ?? "").sort();
}

export async function processesOf(redis: Redis, fleet: string): Promise<ProcessSeen[]> {
  const [all, now] = await Promise.all([redis.hgetall(`{${fleet}}:members`), timeOf(redis)]);
  return Object.entries(all)
    .flatMap(([name, said]) => seen(name, said, now) ?? [])
    .filter(({ silentFor }) => silentFor < gone)
    .sort(
      (one, other) => one.title.localeCompare(other.title, "en", { numeric: true }) || (one.name < other.name ? -1 : 1),
    );
}

function seen(name: string, said: string, now: number): ProcessSeen | undefined {
  const [, at, json = ""] = /^(\d+) \d+ (.*)$/s.exec(said) ?? [];
  let about: Partial<Omit<ProcessSeen, "name" | "silentFor">>;
  try {
    about = JSON.parse(json) ?? {};
  } catch {
    return undefined; // of another form
  }
  const { title, uptime = 0, caches = 0, figures = {} } = about;
  const counts = Object.entries(figures).filter(([, count]) => typeof count === "number");
  return {
    name,
    title: (typeof title === "string" && title) || name,
    silentFor: Math.max(0, now - Number(at)),
    uptime: typeof uptime === "number" ? uptime : 0,
    caches: typeof caches === "number" ? caches : 0,
    figures: Object.fromEntries(counts),
  };
}

/** The last ones first. */
export async function invalidationsOf(redis: Redis, fleet: string, most: number): Promise<InvalidationSeen[]> {
  const [all, now] = await Promise.all([redis.xrevrange(`{${fleet}}:i`, "+", "-", "COUNT", most + 1), timeOf(redis)]);
  return all
    .map(([id, fields]) => {
      const field = (name: string) => fields[fields.indexOf(name) + 1] ?? "";
      const what = [...lines(field("g")).map(labelInWords), ...lines(field("k")).map((id) => entryInWords(id))];
      return { ago: Math.max(0, now - Math.floor(Number(id.split("-")[0]) / 1000)), by: field("h"), what };
    })
    .filter(({ by }) => by !== "") // the stream's beginning
    .slice(0, most);
}

/** @param most so many, those whose names come first */
export async function entriesOf(
  redis: Redis,
  fleet: string,
  { group, most, withValues }: { group?: string | undefined; most: number; withValues: boolean },
): Promise<{ entries: EntrySeen[]; isAll: boolean }> {
  const prefix = `{${fleet}}:e:`;
  const keys = (await scan(redis, `${globbed(prefix)}*`)).sort();
  const now = await timeOf(redis);
  const entries: EntrySeen[] = [];
  for (const key of keys) {
    if (entries.length > most) break;
    // What is not of this form is passed over, and takes nothing else with it.
    const entry = await entryAt(redis, fleet, key, now, withValues).catch(() => undefined);
    if (entry && (group === undefined || entry.groups.includes(group))) entries.push(entry);
  }
  return { entries: entries.slice(0, most), isAll: entries.length <= most };
}

async function entryAt(
  redis: Redis,
  fleet: string,
  key: string,
  now: number,
  withValues: boolean,
): Promise<EntrySeen | undefined> {
  const [said, bytes, keptFor] = await Promise.all([
    redis.hmget(key, "n", "s", "a", "l", "g", "i", ...(withValues ? ["v"] : [])),
    redis.hstrlen(key, "v"),
    redis.pttl(key),
  ]);
  const [version, at, ageThen, length, labels, invalidatedAt, value] = said;
  if (!version || !at) return undefined; // it has gone meanwhile
  const names = lines(labels ?? "");
  const [since, ...versions] = await redis.hmget(`{${fleet}}:g`, "since", ...names.map((name) => `=${escaped(name)}`));
  const isLater = (each: string | null | undefined) => Number(each ?? 0) > Number(version);
  const isInvalid = !since || [since, invalidatedAt, ...versions].some(isLater);
  const age = Number(ageThen) + Math.max(0, now - Number(at));
  const lifetime = Number(length);
  const id = unescaped(key.slice(`{${fleet}}:e:`.length));
  const [, partition, own] = /^ ("(?:[^"\\]|\\.)*") (.*)$/s.exec(id) ?? [];
  return {
    key: own ?? id,
    ...(partition === undefined ? {} : { partition: String(JSON.parse(partition)) }),
    state: isInvalid ? "invalid" : age < lifetime ? "fresh" : "stale",
    age,
    lifetime: lifetime >= Number.MAX_SAFE_INTEGER ? null : lifetime,
    keptFor,
    bytes,
    groups: names.filter((name) => !["\u0001", "\u0002"].includes(name.slice(0, 1))),
    ...(typeof value === "string" ? { value } : {}),
  };
}

async function scan(redis: Redis, pattern: string): Promise<string[]> {
  const found = new Set<string>();
  let cursor = "0";
  do {
    const [next, keys] = await redis.scan(cursor, "MATCH", pattern, "COUNT", 1000);
    for (const key of keys) found.add(key);
    cursor = next;
  } while (cursor !== "0");
  return [...found];
}

async function timeOf(redis: Redis): Promise<number> {
  const [seconds = 0, micro = 0] = await redis.time();
  return Number(seconds) * 1000 + Math.floor(Number(micro) / 1000);
}

function labelInWords(label: string): string {
  if (label === "\u0001") return "everything";
  return label.startsWith("\u0001") ? `source ${label.slice(1)}` : `group ${label}`;
}

function entryInWords(id: string): string {
  return id.startsWith(" ") ? `of one user: ${id.slice(1)}` : id;
}

function globbed(text: string): string {
  return text.replace(/[[\]*?\\]/g, "\\$&");
}

function lines(text: string): string[] {
  return text === "" ? [] : text.split("\n").map(unescaped);
}

function escaped(text: string): string {
  return text.replace(/%/g, "%25").replace(/\n/g, "%0A");
}

function unescaped(text: string): string {
  return text.replace(/%25|%0A/g, (code) => (code === "%25" ? "%" : "\n"));
}
