import { anyLabel, everything } from "../../src/fleet/labels.js";
import type { Found, HeardInvalidation, Invalidation, Looked, News, Put, Release } from "../../src/fleet/store.js";

interface Stored {
  readonly put: Put;
  readonly version: number;
  readonly at: number;
  invalidatedAt: number;
}
interface Mark {
  readonly text: string;
  readonly until: number;
}

/** What is in the store: the scripts of `redis/scripts.ts`, once more, in another language. */
export class SimStore {
  readonly entries = new Map<string, Stored>();
  /** When each label was invalidated, and since when that is known. */
  readonly labels = new Map<string, number>();
  since: number | undefined;
  readonly marks = new Map<string, Mark>();
  readonly members = new Map<string, { at: number; heard: number }>();
  membersSince: number | undefined;
  stream: (HeardInvalidation & { before: number })[] = [];
  /** All that was ever put, as text. */
  readonly everPut: string[] = [];
  #counter = 0;
  readonly #now: () => number;
  readonly lease: number;

  constructor(now: () => number, lease: number) {
    this.#now = now;
    this.lease = lease;
  }

  #next(least = 0): number {
    this.#counter = Math.max(this.#counter + 1, this.#now() * 1000, least);
    return this.#counter;
  }

  #mark(key: string): string | undefined {
    const mark = this.marks.get(key);
    return mark && mark.until > this.#now() ? mark.text : undefined;
  }

  #set(key: string, text: string, length: number): void {
    this.marks.set(key, { text, until: this.#now() + length });
  }

  #entry(id: string): Stored | undefined {
    const stored = this.entries.get(id);
    return stored && this.#now() - stored.at < stored.put.keep ? stored : undefined;
  }

  look(id: string): Looked | undefined {
    const stored = this.#entry(id);
    if (!stored) return undefined;
    const { value, meta, labels, lifetime, age } = stored.put;
    const now = age + this.#now() - stored.at;
    return {
      stored: { value, meta, version: stored.version, age: now, labels },
      lifetime,
      invalidatedAt: stored.invalidatedAt,
    };
  }

  take(id: string, by: string, hasWaited: boolean): Found {
    const stored = this.#entry(id);
    let state: Found["state"] = "none";
    let found: Pick<Found, "stored"> = {};
    if (stored) {
      const { value, meta, labels, lifetime } = stored.put;
      const age = stored.put.age + this.#now() - stored.at;
      state = age < lifetime ? "fresh" : "stale";
      if (stored.invalidatedAt > stored.version || !this.#isGood(labels, stored.version)) state = "invalid";
      found = { stored: { value, meta, version: stored.version, age, labels } };
    }
    if (state === "fresh") return { state, ...found };
    if (this.#mark(`own ${id}`)) return { state: "own" };
    if (this.#mark(`lease ${id}`)) {
      return { state, ...found, leaseLeft: (this.marks.get(`lease ${id}`)?.until ?? 0) - this.#now() };
    }
    const failure = hasWaited ? this.#mark(`failed ${id}`) : undefined;
    if (failure !== undefined) return { state: "failed", failure };
    this.since ??= this.#next();
    const token = String(this.#next());
    this.#set(`lease ${id}`, `${by} ${token}`, this.lease);
    return { state, ...found, token };
  }

  takeAnew(id: string, by: string): string {
    this.since ??= this.#next();
    const token = String(this.#next());
    this.#set(`lease ${id} ${by}`, `${by} ${token}`, this.lease);
    return token;
  }

  put(id: string, by: string, token: string, put: Put): "stored" | "older" | "invalidated" | "lost" {
    const lease = this.#leaseOf(id, by, token);
    const said = this.#refusal(id, lease, Number(token), put) ?? "stored";
    if (said === "stored") {
      this.entries.set(id, { put, version: Number(token), at: this.#now(), invalidatedAt: 0 });
      this.everPut.push(`${id} ${put.value} ${put.meta}`);
      this.marks.delete(`own ${id}`);
    }
    if (lease) this.marks.delete(lease);
    return said;
  }

  #refusal(id: string, lease: string | undefined, token: number, put: Put) {
    const stored = this.#entry(id);
    if (!lease) return "lost";
    if (stored && stored.version >= token) return "older";
    if (stored && stored.invalidatedAt > token) return "invalidated";
    return this.#isGood(put.labels, token) ? undefined : "invalidated";
  }

  #isGood(labels: readonly string[], version: number): boolean {
    if (this.since === undefined || this.since > version) return false;
    return labels.every((label) => (this.labels.get(label) ?? 0) <= version);
  }

  #leaseOf(id: string, by: string, token: string): string | undefined {
    return [`lease ${id}`, `lease ${id} ${by}`].find((key) => this.#mark(key) === `${by} ${token}`);
  }

  release(id: string, by: string, token: string, { own = 0, failure = "" }: Release): void {
    const lease = this.#leaseOf(id, by, token);
    if (lease) {
      this.marks.delete(lease);
      if (failure !== "") this.#set(`failed ${id}`, failure, 1000);
    }
    if (own > 0) this.#set(`own ${id}`, "1", own);
  }

  renew(id: string, by: string, token: string): boolean {
    const lease = this.#leaseOf(id, by, token);
    if (lease) this.#set(lease, `${by} ${token}`, this.lease);
    return lease !== undefined;
  }

  invalidate(by: string, { labels, ids }: Invalidation): number {
    const before = this.stream.at(-1)?.version ?? 0;
    const version = this.#next(before + 1);
    this.since ??= version;
    for (const label of labels) this.labels.set(label, version);
    if (labels.length > 0) this.labels.set(anyLabel, version);
    if (labels.includes(everything)) this.since = version;
    for (const id of ids) {
      const stored = this.#entry(id);
      if (stored) stored.invalidatedAt = version;
      this.marks.delete(`lease ${id}`);
    }
    this.stream.push({ version, by, labels, ids, before });
    return version;
  }

  isHeardByAll(by: string, version: number): boolean {
    if (this.#now() - (this.membersSince ?? this.#now()) < 1700) return false;
    return [...this.members].every(
      ([name, { at, heard }]) => name === by || this.#now() - at >= 1700 || heard >= version,
    );
  }

  news(by: string, since: number | undefined): News {
    if (this.stream.length === 0) {
      this.stream.push({ version: this.#next(), by: "", labels: [], ids: [], before: 0 });
    }
    const newest = this.stream.at(-1)?.version ?? 0;
    const heard = since ?? newest;
    this.membersSince ??= this.#now();
    this.members.set(by, { at: this.#now(), heard });
    if (newest === heard) return { last: heard, invalidations: [], isGap: false };
    if (newest < heard) return { last: newest, invalidations: [], isGap: true };
    const invalidations = this.stream.filter(({ version }) => version > heard).slice(0, 500);
    return { last: invalidations.at(-1)?.version ?? heard, invalidations, isGap: invalidations[0]?.before !== heard };
  }

  /** All is lost, as by FLUSHALL or a restart. */
  flush(): void {
    for (const map of [this.entries, this.labels, this.marks, this.members]) map.clear();
    this.stream = [];
    this.since = this.membersSince = undefined;
    this.#counter = 0;
  }

  /** Lets go of something, as Redis does where its memory is full. @param chance at least 0, less than 1 */
  evict(chance: number): void {
    const all: (() => void)[] = [
      ...[this.entries, this.marks].flatMap((map) => [...map.keys()].map((key) => () => void map.delete(key))),
      () => {
        this.labels.clear();
        this.since = undefined;
      },
      () => {
        this.stream = [];
      },
      () => {
        this.members.clear();
        this.membersSince = undefined;
      },
      () => {
        this.#counter = 0;
      },
    ];
    all[Math.floor(chance * all.length)]?.();
  }
}
