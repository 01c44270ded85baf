/** One process of a fleet: the caches that share, their invalidations, and those that it hears of the others. Rules T8, T9. */

import { onDispose, partitionOf } from "../core/doors/caches.js";
import { adoptChange, type Change, onChange, type PlainSelector, plainSelector } from "../core/doors/sharing.js";
import { keyText } from "../core/doors/tools.js";
import type { Cache, Clock, LoadCall, Source } from "../core/index.js";
import { intercept } from "../core/index.js";
import type { Audience } from "./answers.js";
import type { AskingHost } from "./asking.js";
import { Contact } from "./contact.js";
import { type FleetFigures, noFigures } from "./figures.js";
import { Hearing, type HearingHost, pollEvery } from "./hearing.js";
import { boundedInvalidation, everything, longestId, sourceLabel } from "./labels.js";
import { Loads } from "./loads.js";
import { believedFor, isAloneVersion, Memory } from "./memory.js";
import type { FleetStore, HeardInvalidation, Invalidation } from "./store.js";

export interface MemberOptions {
  readonly sources: readonly Source<any, any>[];
  readonly perUser: readonly Source<any, any>[];
  readonly lease: number;
  readonly keep: number;
  readonly maxBytes: number;
  readonly near: number;
  /** The name of the process in the command. */
  readonly title: string;
}

/** A cache that shares. */
interface Shared {
  readonly partition: string | undefined;
  /** The versions of the records that it was answered by, by key. */
  readonly versions: Map<string, number>;
  end(): void;
}

/** How soon it looks again whether all others have heard: twice as late each time, in milliseconds. */
const firstLook = 2;
const latestLook = 100;

export class Member implements AskingHost, HearingHost {
  readonly options: MemberOptions;
  readonly contact: Contact;
  readonly memory: Memory;
  readonly figures: FleetFigures = noFigures();
  isClosed = false;
  readonly #clock: Clock;
  readonly #store: FleetStore;
  readonly #loads: Loads;
  readonly #caches = new Map<Cache, Shared>();
  readonly #audiences: ReadonlyMap<string, Audience>;
  readonly #timers = new Set<unknown>();
  readonly #pauses = new Set<() => void>();
  readonly #since: number;
  readonly #hearing: Hearing;

  constructor(options: MemberOptions, store: FleetStore, clock: Clock) {
    this.options = options;
    this.#store = store;
    this.#clock = clock;
    this.#since = clock.now();
    this.#audiences = new Map<string, Audience>([
      ...options.sources.map(({ name }) => [name, "all"] as const),
      ...options.perUser.map(({ name }) => [name, "user"] as const),
    ]);
    this.memory = new Memory(() => this.now(), options.near);
    this.contact = new Contact(store, () => {
      this.memory.isAlone = true;
      this.#loads.waits.tell();
    });
    this.#loads = new Loads(this);
    this.#hearing = new Hearing(this);
    store.listen((id) => {
      if (id !== undefined) this.#loads.waits.tell(id);
      else void this.#hearing.poll();
    });
    void this.#hearing.poll();
  }

  now(): number {
    return this.#clock.now();
  }

  after(delay: number, callback: () => void, awaited = true): () => void {
    const timer = this.#clock.setTimer(
      () => {
        this.#timers.delete(timer);
        callback();
      },
      delay,
      awaited,
    );
    this.#timers.add(timer);
    return () => {
      this.#timers.delete(timer);
      this.#clock.clearTimer(timer);
    };
  }

  // ── Caches ─────────────────────────────────────────────────────────────────

  share(cache: Cache): () => void {
    const known = this.#caches.get(cache);
    if (known) return known.end;
    const partition = partitionOf(cache);
    const versions = new Map<string, number>();
    const noteOf = (key: string) => (version: number) => {
      if (!isAloneVersion(version)) versions.set(key, version);
    };
    const ends = [
      intercept(cache, {
        known: (question) => {
          const { key, definition } = question;
          const audience = this.#audienceOf(question);
          if (!audience || this.isClosed || definition.check) return undefined; // what is to be checked takes its time
          const id = idOf(key, audience, partition);
          return id.length > longestId ? undefined : this.#loads.known(id, noteOf(key));
        },
        load: (call, proceed) => {
          const audience = this.#audienceOf(call);
          if (!audience || this.isClosed || call.context.mode === "no-store") return proceed();
          const note = noteOf(call.key);
          const id = idOf(call.key, audience, partition);
          return id.length > longestId ? proceed() : this.#loads.load({ id, audience, call, proceed, note });
        },
      }),
      onChange(cache, (change) => this.#changed(cache, partition, change)),
      onDispose(cache, () => end()),
    ];
    const end = () => {
      for (const end of ends.splice(0)) end();
      this.#caches.delete(cache);
    };
    this.#caches.set(cache, { partition, versions, end });
    return end;
  }

  /** Undefined for an entry that is not shared: a user's own, where the user is unknown. */
  #audienceOf({ source, partition }: Pick<LoadCall, "source" | "partition">): Audience | undefined {
    const audience = this.#audiences.get(source);
    return audience === "user" && partition === undefined ? undefined : audience;
  }

  #idsOf(keys: readonly string[], partition: string | undefined): string[] {
    return keys.flatMap((key) => {
      const audience = this.#audiences.get(sourceIn(key));
      if (!audience || (audience === "user" && partition === undefined)) return [];
      const id = idOf(key, audience, partition);
      return id.length > longestId ? [] : [id];
    });
  }

  #changed(cache: Cache, partition: string | undefined, { selectors, keys, isHeard }: Change): void {
    if (isHeard) return;
    const labels: string[] = [];
    const named = [...keys];
    for (const selector of selectors.flatMap((each) => plainSelector(each) ?? [])) {
      if (selector === "all") labels.push(...[...this.#audiences.keys()].map(sourceLabel));
      else if ("group" in selector) labels.push(selector.group);
      else if ("key" in selector) named.push(selector.key);
      else if (this.#audiences.has(selector.of)) {
        // Which entries have these members among their params is known to no store: all of the source, to be safe.
        const isWhole = !("params" in selector) || (typeof selector.params === "object" && selector.params !== null);
        if (isWhole) labels.push(sourceLabel(selector.of));
        else named.push(keyText(selector.of, selector.params));
      }
    }
    const ids = this.#idsOf(named, partition);
    if (labels.length > 0 || ids.length > 0) void this.invalidate({ labels, ids }, cache);
  }

  // ── Calling out of date ────────────────────────────────────────────────────

  /**
   * @param origin the cache in which it has been done already
   * @returns its version; undefined where it will be told later
   */
  async invalidate(all: Invalidation, origin?: Cache): Promise<number | undefined> {
    const what = boundedInvalidation(all);
    this.figures.invalidations++;
    const count = this.memory.invalidate(what);
    this.#loads.forgetFlights();
    for (const [cache, { partition }] of this.#caches)
      if (cache !== origin) this.#adopt(cache, partition, what, () => true);
    const version = await this.contact.ask((store) => store.invalidate(what));
    if (version === undefined) this.#hearing.keep(what);
    else this.memory.invalidated({ ...what, version }, count);
    return version;
  }

  /** By keys and groups, as a program has them; resolves when all have heard, with whether they have been told. */
  async invalidateNamed(what: {
    groups: readonly string[];
    keys: readonly string[];
    sources: readonly string[];
    partition: string | undefined;
  }): Promise<boolean> {
    const { groups, keys, sources, partition } = what;
    const labels = [...groups, ...sources.map(sourceLabel)];
    const version = await this.invalidate({ labels, ids: this.#idsOf(keys, partition) });
    if (version !== undefined) await this.#untilHeard(version);
    return version !== undefined;
  }

  /** Until all others know of it, or do not trust their memory any more. */
  async #untilHeard(version: number): Promise<void> {
    const end = this.now() + believedFor + pollEvery;
    for (let pause = firstLook; this.now() < end && !this.isClosed; pause = Math.min(pause * 2, latestLook)) {
      if (await this.contact.ask((store) => store.isHeardByAll(version))) return;
      await this.#pause(pause);
    }
  }

  /** Over when the fleet is left, too, so that no caller waits for ever. */
  #pause(length: number): Promise<void> {
    return new Promise((resolve) => {
      const end = () => {
        this.#pauses.delete(end);
        resolve();
      };
      this.#pauses.add(end);
      this.after(length, end);
    });
  }

  #adopt(
    cache: Cache,
    partition: string | undefined,
    { labels, ids }: Invalidation,
    isOlder: (key: string) => boolean,
  ): void {
    const own = idOf("", "user", partition);
    const selectors: PlainSelector[] = [
      ...labels.map(selectorOf),
      ...ids.flatMap((id) => {
        if (!id.startsWith(" ")) return [{ key: id }];
        return partition !== undefined && id.startsWith(own) ? [{ key: id.slice(own.length) }] : [];
      }),
    ];
    adoptChange(cache, "invalidate", selectors, (key) => this.#audiences.has(sourceIn(key)) && isOlder(key));
  }

  // ── Messages heard ─────────────────────────────────────────────────────────

  onHeard(heard: HeardInvalidation): void {
    if (heard.by === this.#store.name) return;
    this.figures.heard++;
    this.#loads.forgetFlights();
    for (const [cache, { partition, versions }] of this.#caches) {
      this.#adopt(cache, partition, heard, (key) => (versions.get(key) ?? 0) < heard.version);
    }
  }

  onGap(): void {
    this.#loads.forgetFlights();
    const all = { labels: [...this.#audiences.keys()].map(sourceLabel), ids: [] };
    for (const [cache, { partition }] of this.#caches) this.#adopt(cache, partition, all, () => true);
  }

  onReturn(): void {
    this.#loads.waits.tell();
  }

  /** For the command: the state of this process. */
  about(): string {
    this.figures.remembered = this.memory.size;
    this.figures.storeFailures = this.contact.failures;
    return JSON.stringify({
      title: this.options.title,
      uptime: this.now() - this.#since,
      caches: this.#caches.size,
      figures: this.figures,
    });
  }

  close(): void {
    if (this.isClosed) return;
    this.isClosed = true;
    for (const { end } of [...this.#caches.values()]) end();
    this.#loads.close();
    for (const timer of this.#timers) this.#clock.clearTimer(timer);
    this.#timers.clear();
    for (const end of this.#pauses) end();
    this.#store.close();
  }
}

function selectorOf(label: string): PlainSelector {
  if (label === everything) return "all";
  return label.startsWith(sourceLabel("")) ? { of: label.slice(1) } : { group: label };
}

/** No key begins with a space, so that no entry of all can be taken for a user's. */
function idOf(key: string, audience: Audience, partition: string | undefined): string {
  return audience === "all" ? key : ` ${JSON.stringify(partition ?? "")} ${key}`;
}

function sourceIn(key: string): string {
  const space = key.indexOf(" ");
  return space < 0 ? key : key.slice(0, space);
}
