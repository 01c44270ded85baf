/**
 * Layers: the pending changes of writes, applied over the held value until their writes settle. Rules W1, W2.
 */
import { asFailure } from "../../api/failure.js";
import type { Write } from "../../api/write-contract.js";
import { runCallback } from "../../kernel/failing.js";
import { freezeDeep } from "../../lib/freeze.js";
import { shareKeeping } from "../../lib/share.js";
import { markDirty } from "../../state/batches.js";
import { type Core, record } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import type { Layers } from "../../state/layers.js";

/** One pending change. */
interface Layer {
  readonly write: WriteLayers;
  readonly change: (value: any) => unknown;
  /** It was removed, and is only still in the list. */
  isGone: boolean;
}

/** The layers of one run of a write. */
export class WriteLayers {
  readonly name: string;
  /** The version at which the write ended; 0: it has not. */
  settledAt = 0;
  /** Its layers, by the entries that they lie on. */
  readonly byEntry: Map<Entry, Layer[]> = new Map();
  readonly #write: Write<any, any>;
  readonly #core: Core;
  /** Who runs it. */
  readonly #user: string | undefined;

  constructor(write: Write<any, any>, core: Core) {
    this.name = write.name;
    this.#write = write;
    this.#core = core;
    this.#user = this.#userNow();
  }

  #userNow(): string | undefined {
    return this.#write.definition.user?.(this.#core.options.context);
  }

  /**
   * Whether another user has run it than the one who asks now, at the moment at which that user is heard of. A write without
   * a `user` counts as the former user's. One that is kept does not: it is sent whoever asks (rule O9).
   */
  get isOfOtherUser(): boolean {
    const { user, kept } = this.#write.definition;
    return user ? this.#userNow() !== this.#user : !(kept && this.#core.keeper);
  }

  /** The entry that it lies on. */
  get entries(): Iterable<Entry> {
    return this.byEntry.keys();
  }

  /** The write has ended: its layers are pending no longer. @param version the cache's, now */
  settle(version: number): void {
    this.settledAt = version;
    for (const entry of this.entries) layersOf(entry)?.pending.delete(this);
  }

  /** Whether nothing of it is left on an entry. */
  isGoneFrom(entry: Entry): boolean {
    return this.byEntry.get(entry)?.every(({ isGone }) => isGone) ?? true;
  }

  /** Lies over all others from now on. */
  raise(): void {
    for (const [entry, layers] of this.byEntry) layersOf(entry)?.raise(layers);
  }

  removeFrom(entry: Entry, note: string): void {
    layersOf(entry)?.remove(this.byEntry.get(entry) ?? [], note);
  }
}

function layersOf(entry: Entry): EntryLayers | undefined {
  return entry.activity?.layers as EntryLayers | undefined;
}

export function addLayer(entry: Entry, write: WriteLayers, change: Layer["change"]): void {
  const activity = entry.active();
  activity.layers ??= new EntryLayers(entry);
  (activity.layers as EntryLayers).add({ write, change, isGone: false });
}

/** The layers of one entry. Its watchers are shown the held value with these applied, in the order in which their writes began. */
class EntryLayers implements Layers {
  readonly #entry: Entry;
  /** Added to at the end only. */
  #list: Layer[] = [];
  #gone = 0;
  readonly pending: Set<WriteLayers> = new Set();
  /** A value with the first `count` of them applied. */
  lastMade: { readonly over: unknown; readonly count: number; readonly value: unknown } | undefined;

  constructor(entry: Entry) {
    this.#entry = entry;
  }

  get count(): number {
    return this.#list.length - this.#gone;
  }

  get pendingWrites(): number {
    return this.pending.size;
  }

  add(layer: Layer): void {
    const { write } = layer;
    const own = write.byEntry.get(this.#entry);
    if (own) own.push(layer);
    else write.byEntry.set(this.#entry, [layer]);
    this.#list.push(layer);
    this.pending.add(write);
    record("layer", this.#entry, write.name, "laid");
    markDirty(this.#entry);
  }

  /** Each layer is applied once to the value beneath it, for as long as that value is the same. */
  value(): unknown {
    const { value, shelf } = this.#entry;
    this.#compact();
    const before = this.lastMade;
    const known = before && before.over === value ? before : { count: 0, value };
    if (known.count === this.#list.length) return known.value;
    let made = known.value;
    for (const layer of this.#list.slice(known.count)) {
      const next = this.#apply(layer, made);
      if (next === undefined) this.#markGone(layer);
      else made = next;
    }
    this.#compact();
    if (before && shelf.source.definition.share !== false) made = shareKeeping(before.value, made);
    if (DEVELOPMENT) freezeDeep(made);
    this.lastMade = { over: value, count: this.#list.length, value: made };
    return made;
  }

  /** `undefined` for a layer that does not fit the value beneath it: that value is shown then. */
  #apply({ change, write }: Layer, value: unknown): unknown {
    let next: unknown;
    const { core, source } = this.#entry.shelf;
    runCallback(core, { write: write.name, source: source.name, key: this.#entry.key }, () => {
      try {
        next = change(value);
      } catch (thrown) {
        const isInPlace = DEVELOPMENT && thrown instanceof TypeError; // by the looks of it: values are frozen in development
        throw isInPlace ? new Error(threwText(write.name, this.#entry.key, thrown), { cause: thrown }) : thrown;
      }
    });
    if (DEVELOPMENT) freezeDeep(next);
    if (next === undefined) {
      record("warning", this.#entry, "a layer was dropped: its change threw or returned nothing", write.name);
    }
    return next;
  }

  removeConfirmed(startVersion: number): void {
    this.#removeWhere(
      ({ write }) => write.settledAt > 0 && write.settledAt < startVersion,
      "lifted: a later answer has come",
    );
  }

  removeSettled(note: string): void {
    this.#removeWhere(({ write }) => write.settledAt > 0, note);
  }

  removeOfOtherUser(by: object | undefined): void {
    this.#removeWhere(({ write }) => write !== by && write.isOfOtherUser, "lifted: another user asks");
  }

  removeAll(note: string): void {
    this.#removeWhere(() => true, note);
  }

  #removeWhere(which: (layer: Layer) => boolean, note: string): void {
    this.remove(this.#list.filter(which), note);
  }

  /** Removes these, and nothing else. */
  remove(layers: readonly Layer[], note: string): void {
    const there = layers.filter(({ isGone }) => !isGone);
    if (there.length === 0) return;
    for (const layer of there) {
      record("layer", this.#entry, layer.write.name, note);
      this.#markGone(layer);
    }
    // The layers are applied anew. The last result stays, so that unchanged parts keep their reference.
    if (this.lastMade) this.lastMade = { ...this.lastMade, over: removed };
    markDirty(this.#entry);
  }

  raise(layers: readonly Layer[]): void {
    const there = layers.filter(({ isGone }) => !isGone);
    this.#list = [...this.#list.filter((layer) => !there.includes(layer)), ...there];
    if (this.lastMade) this.lastMade = { ...this.lastMade, over: removed };
    markDirty(this.#entry);
  }

  #markGone(layer: Layer): void {
    layer.isGone = true;
    this.#gone++;
    if (layer.write.isGoneFrom(this.#entry)) this.pending.delete(layer.write);
  }

  /** The list without those that are gone: once for all that went. */
  #compact(): void {
    if (this.#gone === 0) return;
    this.#list = this.#list.filter(({ isGone }) => !isGone);
    this.#gone = 0;
  }
}

function threwText(write: string, key: string, thrown: unknown): string {
  return `What the write "${write}" shows at once of ${key} could not be made: ${asFailure(thrown).message}. A change returns a new value, and leaves the one that it is given as it is.`;
}

/** Stands where no value can: nothing was made of it. */
const removed = Symbol();
