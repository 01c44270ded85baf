/** The kept writes in order, their layers, and the callers that wait for them. Rules O4, O5, O6, O7. */

import { checked } from "../../core/doors/answers.js";
import { contextOf } from "../../core/doors/caches.js";
import { type LaidWrite, layWrite } from "../../core/doors/kept-writes.js";
import type { Cache, RunOptions, Write } from "../../core/index.js";
import type { KeptWrite } from "./kept-write.js";
import { failureOf, type KeptRecord, type StoredFailure, wellFormedFailure } from "./records.js";

/** A caller of this page that waits for the end of a write. */
export interface Waiting {
  resolve(result: unknown): void;
  reject(reason: unknown): void;
  readonly options: RunOptions;
}

export class KeptList {
  readonly #cache: Cache;
  /** By their names. */
  readonly writes: Map<string, Write<any, any>>;
  readonly #records = new Map<string, KeptRecord>();
  /** The records in the order in which their writes were run; undefined once that has to be found out anew. */
  #ordered: KeptRecord[] | undefined = [];
  readonly #laid = new Map<string, LaidWrite>();
  readonly #waiting = new Map<string, Waiting>();
  /** The ids of the writes that this version of the program does not know, or cannot read. */
  readonly #unknown = new Set<string>();
  /** The ids of the writes that other tabs are sending; and of the one that this tab is sending. */
  readonly #elsewhere = new Set<string>();
  #sending: string | undefined;
  /** The writes that this page has run and no page has tried. Every other write may have been tried. */
  readonly #untried = new Set<string>();
  /** The ids of the writes that have ended, should they be heard of once more. */
  readonly #ended = new Set<string>();
  readonly #listeners = new Set<() => void>();
  #list: readonly KeptWrite[] | undefined;
  #lastOrder = 0;

  constructor(cache: Cache, writes: readonly Write<any, any>[]) {
    this.#cache = cache;
    this.writes = new Map(writes.map((write) => [write.name, write]));
  }

  // ── As others see it ───────────────────────────────────────────────────────

  readonly list = (): readonly KeptWrite[] => {
    this.#list ??= this.#inOrder().map((record) => {
      const { id, write, input, at, failure } = record;
      const told = failure ? { failure: failureOf(failure) } : {};
      return { id, write, input, at, state: this.#stateOf(record), ...told };
    });
    return this.#list;
  };

  #stateOf(record: KeptRecord): KeptWrite["state"] {
    const { id, failure } = record;
    if (failure) return "refused";
    if (this.#unknown.has(id)) return "unknown";
    if (!this.isOwn(record)) return "other-user";
    return this.#sending === id || this.#elsewhere.has(id) ? "sending" : "waiting";
  }

  #inOrder(): readonly KeptRecord[] {
    this.#ordered ??= [...this.#records.values()].sort((one, other) => one.order - other.order);
    return this.#ordered;
  }

  #set(record: KeptRecord): void {
    const isLast = this.#ordered && (this.#ordered.at(-1)?.order ?? 0) < record.order && !this.#records.has(record.id);
    this.#records.set(record.id, record);
    if (isLast) this.#ordered?.push(record);
    else this.#ordered = undefined;
  }

  #delete(id: string): void {
    if (this.#inOrder()[0]?.id === id) this.#ordered?.shift();
    else this.#ordered = undefined;
    this.#records.delete(id);
  }

  /** Rule O9: whether the user who ran it is the one who asks now. */
  isOwn({ write, user }: KeptRecord): boolean {
    return user === undefined || user === this.userOf(this.writes.get(write));
  }

  /** The user who would run a write now: null where no user is signed in; undefined where the write has no `user`. */
  userOf(write: Write<any, any> | undefined): string | null | undefined {
    const { user } = write?.definition ?? {};
    return user && (user(contextOf(this.#cache)) ?? null);
  }

  readonly subscribe = (listener: () => void): (() => void) => {
    const own = () => listener();
    this.#listeners.add(own);
    return () => void this.#listeners.delete(own);
  };

  changed(): void {
    this.#list = undefined;
    for (const listener of [...this.#listeners]) listener();
  }

  get ids(): string[] {
    return [...this.#records.keys()];
  }

  get(id: string): KeptRecord | undefined {
    return this.#records.get(id);
  }

  laidFor(id: string): LaidWrite | undefined {
    return this.#laid.get(id);
  }

  optionsOf(id: string): RunOptions {
    return this.#waiting.get(id)?.options ?? {};
  }

  /** Whether a try may have reached the server. Then the write may have worked. */
  mayHaveWorked(id: string): boolean {
    return !this.#untried.has(id);
  }

  /** The one that is to be sent next. */
  next(): KeptRecord | undefined {
    return this.#inOrder().find((record) => !record.failure && !this.#unknown.has(record.id) && this.isOwn(record));
  }

  /** Greater than that of all that is known. */
  nextOrder(now: number): number {
    this.#lastOrder = Math.max(now, this.#lastOrder + 0.001);
    return this.#lastOrder;
  }

  // ── Its changes ────────────────────────────────────────────────────────────

  /** Adds a write that is run here: shown at once. @returns its result */
  add(record: KeptRecord, write: Write<any, any>, options: RunOptions): Promise<unknown> {
    const { id, input } = record;
    this.writes.set(write.name, write); // after hot reloading another one of that name
    this.#set(record);
    this.#untried.add(id);
    this.#laid.set(id, layWrite(this.#cache, write, input, id));
    this.changed();
    const ended = new Promise<unknown>((resolve, reject) => this.#waiting.set(id, { resolve, reject, options }));
    ended.catch(() => {});
    return ended;
  }

  /** One that was stored, or that another tab has told of. */
  async take(record: KeptRecord): Promise<void> {
    const { id } = record;
    this.#lastOrder = Math.max(this.#lastOrder, record.order);
    if (this.#ended.has(id) || this.#records.has(id)) return;
    this.#set(record);
    await this.#show(record);
  }

  /** Rule O9: another user asks now. Only that one's writes are shown. */
  async showOwn(): Promise<void> {
    const waiting = this.#inOrder().filter(
      ({ id, failure }) => !failure && !this.#unknown.has(id) && !this.#ended.has(id),
    );
    for (const record of waiting) if (!this.isOwn(record)) this.hide(record.id);
    for (const record of waiting) if (this.isOwn(record)) await this.#show(record);
    this.changed();
  }

  /** Lays it over the entries. The check of its input takes time: it may have been dropped, laid, answered or refused meanwhile. */
  async #show(record: KeptRecord): Promise<void> {
    const { id } = record;
    const write = this.writes.get(record.write);
    const input = write && (await inputOf(write, record));
    const now = this.#records.get(id);
    if (!now || this.#laid.has(id) || this.#ended.has(id)) return;
    if (!write || !input) this.#unknown.add(id);
    else if (!now.failure && this.isOwn(now)) this.#lay(now, write, input.value);
  }

  /** In the order in which they were run, also where another tab's is heard of late. */
  #lay({ id, order }: KeptRecord, write: Write<any, any>, input: unknown): void {
    this.#laid.set(id, layWrite(this.#cache, write, input, id));
    const all = this.#inOrder();
    const first = all.findLastIndex((other) => other.order <= order) + 1;
    for (const later of all.slice(first)) this.#laid.get(later.id)?.raise();
  }

  /** @param id undefined: nothing is being sent any more */
  setSending(id: string | undefined): void {
    this.#sending = id;
    if (id !== undefined) this.#untried.delete(id);
    this.changed();
  }

  #setElsewhere(id: string, isElsewhere: boolean): void {
    this.#untried.delete(id);
    if (isElsewhere) this.#elsewhere.add(id);
    else this.#elsewhere.delete(id);
    this.optionsOf(id).onPhase?.(isElsewhere ? "sending" : "waiting");
    this.changed();
  }

  /** It was answered: its run removes the layers, and it is on its way out of the database. */
  noteAnswered(id: string): void {
    this.#laid.delete(id);
    this.#ended.add(id);
  }

  /** Rule O9: takes back the layers of another user's write. If a try may have reached the server, their entries are requested. */
  hide(id: string): void {
    const laid = this.#laid.get(id);
    this.#laid.delete(id);
    laid?.refused(this.mayHaveWorked(id));
  }

  /** It has had its end, before it was heard of here. */
  #noteEnded(id: string): void {
    this.#ended.add(id);
  }

  /** Takes a message of another tab about one. */
  hear(id: string, kind: unknown, result: unknown, failure: unknown): void {
    const record = this.#records.get(id);
    if (!record) {
      if (kind === "done" || kind === "dropped") this.#noteEnded(id); // it was read before, and is taken in after
    } else if (kind === "sending" || kind === "waiting") this.#setElsewhere(id, kind === "sending");
    else if (kind === "done" || kind === "gone") {
      this.end(
        id,
        (laid) => laid.ended(kind === "done"),
        ({ resolve }) => resolve(result),
      );
    } else if (kind === "refused") this.#hearRefused(record, wellFormedFailure(failure));
  }

  #hearRefused({ id, failure: known }: KeptRecord, failure: StoredFailure | undefined): void {
    if (!failure || known) return;
    this.laidFor(id)?.refused(true);
    this.refuse(id, failure)?.reject(failureOf(failure));
  }

  /** It stays in the list, and its layers go. @returns who waits for it */
  refuse(id: string, failure: StoredFailure): Waiting | undefined {
    const record = this.#records.get(id);
    const waiting = this.#waiting.get(id);
    if (record) this.#set({ ...record, failure });
    this.#elsewhere.delete(id);
    this.#laid.delete(id);
    this.#waiting.delete(id);
    this.changed();
    return waiting;
  }

  /** It is kept no longer. @param settle ends its layers, where they were not sent from here */
  end(id: string, settle?: (laid: LaidWrite) => void, tell?: (waiting: Waiting) => void): void {
    const laid = this.#laid.get(id);
    const waiting = this.#waiting.get(id);
    this.#ended.add(id);
    this.#delete(id);
    for (const kept of [this.#laid, this.#waiting, this.#elsewhere, this.#unknown, this.#untried]) kept.delete(id);
    if (laid) settle?.(laid);
    if (waiting) tell?.(waiting);
    this.changed();
  }
}

/** Rule O5: the input that another version of the program has stored may be of another form. */
async function inputOf(
  { definition: { check } }: Write<any, any>,
  { input }: KeptRecord,
): Promise<{ value: unknown } | undefined> {
  if (!check) return { value: input };
  try {
    return { value: await checked(check, input) };
  } catch {
    return undefined;
  }
}
