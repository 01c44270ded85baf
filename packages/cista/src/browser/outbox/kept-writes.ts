/** The writes that are kept until they have been sent: stored, shown, sent by one tab, in order. Rules O1 to O8. */

import { asFailure } from "../../core/doors/answers.js";
import { clockOf } from "../../core/doors/caches.js";
import { sendLater, setKeeper, type WriteKeeper } from "../../core/doors/kept-writes.js";
import { onUserChanged } from "../../core/doors/sharing.js";
import { type Cache, CistaError, Failure, type RunOptions, type SendingPhase, type Write } from "../../core/index.js";
import { Era } from "../era.js";
import type { LifeEvent, TabPlatform } from "../tabs/platform.js";
import { KeptList } from "./kept-list.js";
import { type Body, type Heard, OutboxChannel } from "./messages.js";
import {
  cloned,
  type KeptRecord,
  type OutboxBackend,
  recordVersion,
  storedFailure,
  wellFormedRecord,
} from "./records.js";
import { type Sendable, Sender } from "./sender.js";

export class KeptWrites implements WriteKeeper, Sendable {
  readonly #cache: Cache;
  readonly kept: KeptList;
  readonly #backend: OutboxBackend;
  readonly #platform: TabPlatform;
  readonly #online: () => boolean;
  readonly #era: Era;
  #ownEra: number;
  readonly #channel: OutboxChannel;
  /** The ids of the writes that are on their way into the database. */
  readonly #beingStored = new Set<string>();
  readonly #ends: (() => void)[] = [];
  #sending: { readonly id: string; readonly abort: AbortController } | undefined;
  readonly #sender: Sender;
  #isFrozen = false;
  #isClosed = false;

  constructor(
    cache: Cache,
    writes: readonly Write<any, any>[],
    scope: string,
    backend: OutboxBackend,
    platform: TabPlatform,
    environment: { readonly online: boolean; subscribe(listener: () => void): () => void },
  ) {
    this.#cache = cache;
    this.kept = new KeptList(cache, writes);
    this.#backend = backend;
    this.#platform = platform;
    this.#online = () => environment.online;
    this.#era = new Era(scope);
    this.#ownEra = this.#era.now;
    this.#sender = new Sender(cache, platform.locks, `cista outbox ${scope}`, this);
    this.#ends.push(
      setKeeper(cache, this),
      environment.subscribe(() => this.#networkChanged()),
      platform.onLife((event) => this.#live(event)),
      cache.onSignOut(() => this.#signedOut()),
      onUserChanged(cache, () => this.#userChanged()),
    );
    this.#channel = new OutboxChannel(platform, scope, (heard) => this.#hear(heard));
  }

  async begin(): Promise<void> {
    await this.takeIn();
    this.#sender.begin();
  }

  // ── The kept writes ────────────────────────────────────────────────────────

  /** Takes in the stored writes, and ends those that are stored no longer: another tab may have sent them meanwhile. */
  async takeIn(): Promise<void> {
    if (this.#isClosed) return;
    const before = this.kept.ids.filter((id) => !this.#beingStored.has(id));
    const stored = (await this.#readAll()).flatMap((each) => wellFormedRecord(each) ?? []);
    if (this.#isClosed) return;
    const own = await this.#ofThisEra(stored);
    const there = new Set(own.map(({ id }) => id));
    for (const id of before) if (!there.has(id)) this.#hearOf(id, "gone"); // It was sent or dropped. No tab tells what changed.
    for (const { id, failure } of own) this.#hearOf(id, "refused", undefined, failure); // while this page stood still
    for (const record of own) await this.kept.take(record);
    this.kept.changed();
  }

  async #readAll(): Promise<readonly unknown[]> {
    try {
      return await this.#backend.readAll();
    } catch (thrown) {
      if (this.#isClosed) return []; // the database was closed while it was read
      throw thrown;
    }
  }

  /** The writes that were run after the last sign-out. Older ones, left by a page that ended in the middle of a sign-out, are deleted. */
  async #ofThisEra(stored: readonly KeptRecord[]): Promise<KeptRecord[]> {
    const { now } = this.#era;
    const newest = stored.reduce((most, { era }) => Math.max(most, era), now);
    for (const { id, era } of stored) if (era < newest) await this.#backend.delete(id);
    const own = stored.filter(({ era }) => era === newest).map((record) => ({ ...record, era: now }));
    // The count of sign-outs was lost, as where the program has emptied localStorage: it begins anew, with these.
    if (newest > now) for (const record of own) await this.#backend.put(record);
    return own;
  }

  // ── Runs ───────────────────────────────────────────────────────────────────

  async run(write: Write<any, any>, given: unknown, options: RunOptions): Promise<unknown> {
    const { name } = write;
    if (!this.kept.writes.has(name)) {
      throw new CistaError(
        "unknown-kept-write",
        DEVELOPMENT &&
          `The write "${name}" is to be kept, but the outbox does not know it. Name it among the writes of openOutbox, so that another page can send it.`,
      );
    }
    options.signal?.throwIfAborted();
    const input = cloned(name, given);
    const id = options.idempotencyKey ?? clockOf(this.#cache).uniqueText?.() ?? "";
    const record = this.#recordOf(id, write, input);
    const ended = this.kept.add(record, write, options);
    options.signal?.addEventListener("abort", () => void this.drop(id, options.signal?.reason), { once: true });
    this.#beingStored.add(id);
    try {
      await this.#backend.put(record);
    } catch (thrown) {
      return this.#sendUnkept(record, thrown);
    } finally {
      this.#beingStored.delete(id);
    }
    if (!this.kept.get(id)) await this.#backend.delete(id); // dropped meanwhile
    options.onPhase?.(this.#online() ? "waiting" : "offline");
    this.#sender.begin(); // in the lock's queue before the others hear of it: whoever ran it sends it
    this.#tell({ kind: "added", record });
    return ended;
  }

  #recordOf(id: string, write: Write<any, any>, input: unknown): KeptRecord {
    const at = clockOf(this.#cache).now();
    const order = this.kept.nextOrder(this.#platform.now());
    const user = this.kept.userOf(write);
    const own = user === undefined ? {} : { user };
    return { v: recordVersion, id, write: write.name, input, at, order, era: this.#era.now, ...own };
  }

  /** Rule O8: where it cannot be stored it is sent like any other. */
  #sendUnkept({ id, write }: KeptRecord, thrown: unknown): Promise<unknown> | undefined {
    console.warn(`Cista: "${write}" could not be kept, and is sent like any other write:`, thrown);
    const laid = this.kept.laidFor(id);
    const options = this.kept.optionsOf(id);
    this.kept.end(id);
    return laid?.send({ ...options, idempotencyKey: id });
  }

  // ── Sending: by one tab, the oldest first ──────────────────────────────────

  hasWork(): boolean {
    if (this.#isClosed || this.#isFrozen || !this.#online()) return false;
    const next = this.kept.next();
    return next !== undefined && !this.#beingStored.has(next.id); // rule O1
  }

  async sendNext(isOurs: () => boolean): Promise<boolean> {
    const record = this.kept.next();
    if (!record || !this.hasWork() || !isOurs()) return false;
    if ((await this.#backend.get(record.id)) !== undefined) return this.hasWork() && isOurs() && this.#send(record);
    this.#hearOf(record.id, "dropped"); // by another tab, which is still telling
    return true;
  }

  giveUp(): void {
    this.#sending?.abort.abort(sendLater);
  }

  /** @returns false where it is to be sent later */
  async #send(record: KeptRecord): Promise<boolean> {
    const { id } = record;
    const laid = this.kept.laidFor(id);
    if (!laid) return true;
    const abort = new AbortController();
    this.#sending = { id, abort };
    this.kept.setSending(id);
    this.#tell({ kind: "sending", id, record });
    let result: unknown;
    try {
      const { onPhase } = this.kept.optionsOf(id);
      const phases = onPhase ? { onPhase: (phase: SendingPhase) => onPhase(phase) } : {};
      result = await laid.send({ idempotencyKey: id, signal: abort.signal, ...phases });
    } catch (thrown) {
      this.#endSending();
      const isOthers = !this.kept.isOwn(record); // its user asks no longer (rule O9): what failed is tried again for that one
      if (isOthers) this.kept.hide(id);
      if (thrown === sendLater || isOthers) this.#tell({ kind: "waiting", id });
      else if (this.kept.get(id)) await this.#refuse(record, asFailure(thrown)); // else it was dropped
      return thrown !== sendLater;
    }
    this.kept.noteAnswered(id);
    await this.#stored(this.#backend.delete(id), record);
    this.#endSending();
    this.kept.end(id, undefined, ({ resolve }) => resolve(result));
    if (!this.#isClosed) this.#channel.tellDone(id, result);
    return true;
  }

  /** Rule O8: a database that refuses to store the end of a write does not keep the end from those who wait for it. */
  async #stored(storing: Promise<void>, { write }: KeptRecord): Promise<void> {
    await storing.catch((thrown: unknown) =>
      console.warn(`Cista: the end of "${write}" could not be stored. The next page sends it again:`, thrown),
    );
  }

  #endSending(): void {
    this.#sending = undefined;
    this.kept.setSending(undefined);
  }

  async #refuse(record: KeptRecord, failure: Failure): Promise<void> {
    const { id } = record;
    const told = storedFailure(failure);
    const waiting = this.kept.refuse(id, told);
    await this.#stored(this.#backend.put({ ...record, failure: told }), record);
    if (!this.kept.get(id)) await this.#stored(this.#backend.delete(id), record); // dropped meanwhile
    this.#tell({ kind: "refused", id, failure: told });
    waiting?.reject(failure);
  }

  // ── Their ends ─────────────────────────────────────────────────────────────

  async retry(id: string): Promise<void> {
    const record = this.kept.get(id);
    const write = record && this.kept.writes.get(record.write);
    if (!record?.failure || !write) return;
    await this.drop(id);
    // Under another Idempotency-Key: under the old one the origin would give its old answer.
    void this.run(write, record.input, {}).catch(() => {});
  }

  async drop(id: string, reason: unknown = givenUp()): Promise<void> {
    if (!this.kept.get(id)) return;
    this.#give(id, reason);
    await this.#backend.delete(id);
    this.#tell({ kind: "dropped", id });
  }

  /** A write that is being sent from here takes its layers back itself. One that has been tried may have worked. */
  #give(id: string, reason: unknown): void {
    const sending = this.#sending?.id === id ? this.#sending : undefined;
    const mayHaveWorked = this.kept.mayHaveWorked(id);
    this.kept.end(id, sending ? undefined : (laid) => laid.refused(mayHaveWorked), ({ reject }) => reject(reason));
    sending?.abort.abort(reason);
  }

  async clear(): Promise<void> {
    this.#giveAll();
    await this.#backend.clear();
    this.#tell({ kind: "cleared" });
  }

  #giveAll(ids = this.kept.ids): void {
    for (const id of ids) this.#give(id, givenUp());
  }

  /**
   * Rule O6. The first tab that hears of it begins a new era: a write of an older one is never sent. A write of the new era was
   * run by the user who has signed in since, in a tab that this one has heard of the sign-out from.
   */
  async #signedOut(): Promise<void> {
    const before = this.#ownEra;
    if (this.#era.now === before) this.#era.begin();
    this.#ownEra = this.#era.now;
    const isOld = (id: string) => this.#ownEra === before || (this.kept.get(id)?.era ?? 0) < this.#ownEra;
    const old = this.kept.ids.filter(isOld);
    this.#giveAll(old);
    for (const id of old) await this.#backend.delete(id);
  }

  close(): void {
    if (this.#isClosed) return;
    this.#isClosed = true;
    for (const end of this.#ends) end();
    this.giveUp();
    this.#sender.stop();
    this.#channel.close();
    this.#backend.close();
  }

  // ── Other tabs, the network, the page ──────────────────────────────────────

  tell(kind: "asks" | "alive"): void {
    this.#tell({ kind });
  }

  #tell(body: Body): void {
    if (!this.#isClosed) this.#channel.tell(body);
  }

  #hear({ kind, id, record, result, failure }: Heard): void {
    if (this.#isClosed) return;
    if (kind === "asks") {
      if (!this.#isFrozen) this.#sender.answer();
      return;
    }
    const told = wellFormedRecord(record);
    if (told?.era === this.#era.now) void this.kept.take(told).then(() => this.#heardOfMore());
    if (kind === "added") return;
    this.#sender.sign();
    if (kind === "cleared") this.#giveAll();
    else if (typeof id === "string") this.#hearOf(id, kind, result, failure);
  }

  #heardOfMore(): void {
    this.kept.changed();
    this.#sender.begin(); // waits at the lock, in case its tab dies
  }

  #hearOf(id: string, kind: unknown, result?: unknown, failure?: unknown): void {
    const record = this.kept.get(id);
    if (kind === "dropped" && record) {
      this.#give(id, givenUp());
      void this.#stored(this.#backend.delete(id), record); // This tab may have stored a refusal after the other tab's delete.
    } else this.kept.hear(id, kind, result, failure);
  }

  /** Rule O9: the write being sent was perhaps run by the user before. It goes on when that user asks again. */
  #userChanged(): void {
    const sending = this.#sending && this.kept.get(this.#sending.id);
    if (sending && !this.kept.isOwn(sending)) this.giveUp();
    void this.kept.showOwn().then(() => this.#sender.begin());
  }

  #networkChanged(): void {
    if (this.#online()) this.#sender.begin();
    else this.giveUp(); // no lock is held for what cannot be sent
  }

  #live(event: LifeEvent): void {
    if (event === "freeze" || event === "leave") {
      this.#isFrozen = true;
      this.giveUp(); // under the same key another tab sends it again
      this.#sender.stop();
      if (event === "leave") this.#channel.close();
    } else if (this.#isFrozen) {
      this.#isFrozen = false;
      if (event === "return") this.#channel.open();
      void this.takeIn().then(() => this.#sender.begin());
    }
  }
}

function givenUp(): Failure {
  return new Failure("aborted", "The write was aborted.");
}
