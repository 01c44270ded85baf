/** A fleet's store on Redis: each call is one script, and has a time-out of its own. Rule T5. */
import { Failure } from "../../core/index.js";
import { believedFor } from "../memory.js";
import {
  type FleetStore,
  type Found,
  type HeardInvalidation,
  type Invalidation,
  type Looked,
  type News,
  type Put,
  Refusal,
  type Release,
} from "../store.js";
import type { RedisClient } from "./client.js";
import { type ScriptName, scripts } from "./scripts.js";

export interface RedisStoreOptions {
  /** Of the fleet. */
  readonly fleet: string;
  /** Of this process. */
  readonly name: string;
  /** Milliseconds. */
  readonly keep: number;
  readonly lease: number;
  readonly timeout: number;
}

/** A process that has not been heard of for so long does not trust its memory; a little longer, to be safe. Milliseconds. */
const silentFor = believedFor + 200;

/** The members that one look reads of an entry. */
const looked = ["g", "m", "v", "n", "s", "a", "l", "i"];
/** When an entry was stored may be so much later than Redis' clock was last heard to be, in milliseconds: a day. */
const mostAhead = 86_400_000;
/** So many labels are read at once, by a process that joins. */
const mostLabels = 5000;

export class RedisStore implements FleetStore {
  readonly name: string;
  readonly #client: RedisClient;
  readonly #options: RedisStoreOptions;
  readonly #prefix: string;
  readonly #hashes = new Map<ScriptName, Promise<string>>();
  /** Tokens that were given for asking anew: their leases are apart. */
  readonly #anew = new Set<string>();
  /** By how much Redis' clock is ahead of this process' own, at most, in milliseconds. */
  #ahead = 0;
  #end = (): void => {};

  constructor(client: RedisClient, options: RedisStoreOptions) {
    this.#client = client;
    this.#options = options;
    this.name = options.name;
    this.#prefix = prefixOf(options.fleet);
  }

  async look(id: string): Promise<Looked | undefined> {
    const said = await this.#inTime(this.#client.send(["HMGET", this.#key("e", id), ...looked]));
    const [labels, meta, value, ...numbers] = said as (string | null)[];
    const [version, at, age, lifetime, invalidatedAt] = numbers.map(Number);
    // A malformed record is left to `take`, which mends it.
    if (!isCount(version) || !isCount(at) || !isCount(age) || !isCount(lifetime) || !isCount(invalidatedAt))
      return undefined;
    if (!version || !meta || value === null || value === undefined) return undefined;
    // By Redis' clock, as it was when that was last heard: rather too old than too young.
    const since = performance.now() + this.#ahead - at;
    if (since < -mostAhead) return undefined;
    return {
      stored: { value, meta, version, age: age + Math.max(0, since), labels: inLines(labels ?? "") },
      lifetime,
      invalidatedAt,
    };
  }

  async labels(): Promise<{ since: number; all: [string, number][] } | undefined> {
    const key = this.#named("g");
    if (Number(await this.#inTime(this.#client.send(["HLEN", key]))) > mostLabels) return undefined;
    const said = pairsOf(await this.#inTime(this.#client.send(["HGETALL", key])));
    const since = said.get("since");
    if (since === undefined) return undefined;
    const all = [...said].filter(([name, version]) => name.startsWith("=") && isCount(Number(version)));
    return {
      since: isCount(Number(since)) ? Number(since) : Number.POSITIVE_INFINITY,
      all: all.map(([name, version]) => [unescaped(name.slice(1)), Number(version)]),
    };
  }

  async take(id: string, hasWaited: boolean): Promise<Found> {
    const own = ["e", "l", "o", "f"].map((kind) => this.#key(kind, id));
    const keys = [...own, this.#named("n"), this.#named("g")];
    const said = this.#send("take", keys, [this.name, String(this.#options.lease), hasWaited ? "1" : ""]);
    // An answer that comes too late gives no lease.
    const giveBack = (late: unknown) => {
      const { token } = foundIn(late);
      if (token) this.release(id, token, {}).catch(() => {});
    };
    return foundIn(await this.#inTime(said, giveBack));
  }

  async takeAnew(id: string): Promise<string> {
    const lease = this.#key("l", `${id} ${this.name}`);
    const token = String(
      await this.#call("anew", [lease, this.#named("n"), this.#named("g")], [this.name, String(this.#options.lease)]),
    );
    this.#anew.add(token);
    return token;
  }

  async put(id: string, token: string, put: Put): Promise<"stored" | "older" | "invalidated" | "lost"> {
    const { value, meta, age, lifetime, keep, labels } = put;
    const keys = [
      this.#key("e", id),
      this.#lease(id, token),
      this.#key("o", id),
      this.#named("told"),
      this.#named("g"),
      this.#named("n"),
    ];
    const numbers = [age, lifetime, keep].map((number) => number.toFixed(0));
    const words = [`${this.name} ${token}`, token, value, meta, ...numbers, linesOf(labels), id];
    this.#anew.delete(token);
    return (await this.#call("put", keys, words)) as "stored";
  }

  async release(id: string, token: string, { own = 0, failure = "" }: Release): Promise<void> {
    const keys = [this.#lease(id, token), this.#key("o", id), this.#key("f", id), this.#named("told")];
    this.#anew.delete(token);
    await this.#call("release", keys, [`${this.name} ${token}`, own.toFixed(0), failure, id]);
  }

  async renew(id: string, token: string): Promise<boolean> {
    const words = [`${this.name} ${token}`, String(this.#options.lease)];
    return Number(await this.#call("renew", [this.#lease(id, token)], words)) === 1;
  }

  async invalidate({ labels, ids }: Invalidation): Promise<number> {
    const keys = ["n", "i", "told", "g"].map((name) => this.#named(name));
    const words = [this.#prefix, this.name, linesOf(labels), linesOf(ids), String(this.#options.keep)];
    return Number(await this.#call("invalidate", keys, words));
  }

  async isHeardByAll(version: number): Promise<boolean> {
    const words = [this.name, String(version), String(silentFor)];
    return Number(await this.#call("heard", [this.#named("members")], words)) === 1;
  }

  async news(since: number | undefined, about: string): Promise<News> {
    const sentAt = performance.now();
    const words = [this.name, since === undefined ? "" : String(since), about];
    const keys = ["i", "members", "n"].map((name) => this.#named(name));
    const said = (await this.#call("news", keys, words)) as unknown[];
    const [now, last, isGap, ...parts] = said.map(String);
    this.#ahead = Number(now) - sentAt;
    const invalidations: HeardInvalidation[] = [];
    for (let at = 0; at + 3 < parts.length; at += 4) {
      const [version, by = "", labels = "", ids = ""] = parts.slice(at, at + 4);
      invalidations.push({ version: Number(version), by, labels: inLines(labels), ids: inLines(ids) });
    }
    return { last: Number(last), isGap: isGap === "1", invalidations };
  }

  listen(listener: (id: string | undefined) => void): void {
    this.#end = this.#client.subscribe(this.#named("told"), (id) => listener(id === "" ? undefined : id));
  }

  close(): void {
    this.#end();
    this.#client.send(["HDEL", this.#named("members"), this.name]).catch(() => {});
  }

  /** A key of the whole fleet. */
  #named(name: string): string {
    return `${this.#prefix}${name}`;
  }

  #key(kind: string, id: string): string {
    return `${this.#prefix}${kind}:${escaped(id)}`;
  }

  #lease(id: string, token: string): string {
    return this.#key("l", this.#anew.has(token) ? `${id} ${this.name}` : id);
  }

  #call(name: ScriptName, keys: readonly string[], words: readonly string[]): Promise<unknown> {
    return this.#inTime(this.#send(name, keys, words));
  }

  async #send(name: ScriptName, keys: readonly string[], words: readonly string[]): Promise<unknown> {
    const rest = [String(keys.length), ...keys, ...words];
    let hash = this.#hashes.get(name);
    if (!hash) {
      hash = hashOf(scripts[name]);
      this.#hashes.set(name, hash);
    }
    try {
      return await this.#client.send(["EVALSHA", await hash, ...rest]);
    } catch (thrown) {
      if (!String((thrown as Error | undefined)?.message).startsWith("NOSCRIPT")) throw thrown;
      return this.#client.send(["EVAL", scripts[name], ...rest]);
    }
  }

  /** A client whose connection has broken may never answer. */
  #inTime(said: Promise<unknown>, late: (said: unknown) => void = () => {}): Promise<unknown> {
    return new Promise((resolve, reject) => {
      let isOver = false;
      const giveUp = () => {
        if (isOver) return;
        isOver = true;
        reject(new Failure("timeout", `Redis has not answered within ${this.#options.timeout} ms.`));
      };
      // A busy process' timer goes off before it has read answers that came long ago: it reads before the next one goes off.
      const timer = setTimeout(() => setTimeout(giveUp), this.#options.timeout);
      said.then(
        (came) => {
          clearTimeout(timer);
          if (isOver) late(came);
          isOver = true;
          resolve(came);
        },
        (thrown) => {
          clearTimeout(timer);
          isOver = true;
          reject(refusalOf(thrown) ?? thrown);
        },
      );
    });
  }
}

/** Errors by which Redis says that it can do nothing at all now: it is away. */
const awayErrors = /^(?:LOADING|MASTERDOWN|CLUSTERDOWN|READONLY|OOM|MISCONF|NOAUTH|NOPERM|WRONGPASS|NOREPLICAS|BUSY)\b/;

/** Redis has answered, by an error that is of this one call. */
function refusalOf(thrown: unknown): Refusal | undefined {
  const { name = "", message = "" } = (thrown ?? {}) as Partial<Error>;
  const isReply = name === "ReplyError" || /^[A-Z]{3,} /.test(message);
  return isReply && !awayErrors.test(message) ? new Refusal(message) : undefined;
}

/** Zero or more, and exact. */
function isCount(value: number | undefined): value is number {
  return value !== undefined && value >= 0 && value <= Number.MAX_SAFE_INTEGER;
}

/** The prefix of all keys of a fleet: the braces put them into one slot of a cluster. */
export function prefixOf(fleet: string): string {
  return `{${fleet}}:`;
}

function foundIn(said: unknown): Found {
  const [state = "none", version = "", age = "", labels = "", meta = "", value = "", token = "", left = ""] = (
    said as unknown[]
  ).map((part) => String(part ?? ""));
  if (state === "failed") return { state, failure: version };
  const found = {
    state: state as Found["state"],
    ...(token ? { token } : {}),
    ...(left ? { leaseLeft: Number(left) } : {}),
  };
  if (meta === "") return found;
  return { ...found, stored: { value, meta, version: Number(version), age: Number(age), labels: inLines(labels) } };
}

/** A hash, as clients give it: a list of names and values in turns, a Map, or an object. */
function pairsOf(said: unknown): Map<string, string> {
  if (said instanceof Map) return new Map(Array.from(said, ([name, value]) => [String(name), String(value)]));
  if (!Array.isArray(said)) return new Map(Object.entries(said ?? {}).map(([name, value]) => [name, String(value)]));
  return new Map(said.flatMap((name, n) => (n % 2 === 0 ? [[String(name), String(said[n + 1])] as const] : [])));
}

/** Ids and labels stand one on each line. */
function linesOf(texts: readonly string[]): string {
  return texts.map(escaped).join("\n");
}

function inLines(lines: string): string[] {
  return lines === "" ? [] : lines.split("\n").map(unescaped);
}

function escaped(text: string): string {
  return text.replace(/[%\n]/g, (letter) => (letter === "%" ? "%25" : "%0A"));
}

function unescaped(text: string): string {
  return text.replace(/%25|%0A/g, (code) => (code === "%25" ? "%" : "\n"));
}

/** By which Redis knows a script (SHA-1). */
async function hashOf(script: string): Promise<string> {
  const digest = await crypto.subtle.digest("SHA-1", new TextEncoder().encode(script));
  return Array.from(new Uint8Array(digest), (byte) => byte.toString(16).padStart(2, "0")).join("");
}
