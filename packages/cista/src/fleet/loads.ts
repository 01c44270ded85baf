/** What stands around the loads of shared caches: memory, the fleet's store, and one request for all. Rules T1 to T12. */
import { type Answer, answer, Failure, type LoadCall, type LoadChanges } from "../core/index.js";
import { asFailure, isAnswer, mayBeCovered } from "../core/internal.js";
import { type Audience, recordOfAnswer } from "./answers.js";
import type { FleetFigures } from "./figures.js";
import { Flight } from "./flights.js";
import { Lease, type LeaseHost } from "./lease.js";
import type { Memory } from "./memory.js";
import { type FleetRecord, recordOf } from "./record.js";
import type { Found, StoredRecord } from "./store.js";
import { type Wait, Waits } from "./waits.js";

/** What loads need of the process that they run in. */
export interface LoadsHost extends LeaseHost {
  readonly memory: Memory;
  readonly figures: FleetFigures;
  readonly options: { readonly lease: number; readonly keep: number; readonly maxBytes: number };
  readonly isClosed: boolean;
  now(): number;
}

/** A load, and what is to become of it. */
export interface Question {
  /** Of the entry in the store. */
  readonly id: string;
  readonly audience: Audience;
  readonly call: LoadCall;
  proceed(changes?: LoadChanges): unknown;
  /** Is told the version of the record that it was answered by. */
  note(version: number): void;
}

/** What a load came to, for all who wait for it in this process. */
type Outcome =
  /** It is for all. `own` is for whoever has asked the source. */
  | { readonly kind: "shared"; readonly record: FleetRecord; readonly own?: unknown; readonly failure?: Failure }
  /** It is for nobody but whoever has asked. */
  | { readonly kind: "own"; readonly came: unknown }
  /** Nobody has asked: each is to ask on their own. */
  | { readonly kind: "apart" }
  | { readonly kind: "failed"; readonly thrown: unknown; readonly isForAll: boolean };

type AskedOutcome = Exclude<Outcome, { kind: "apart" }>;

/** For so long nobody waits for an answer that turned out to be somebody's own, in milliseconds (rule T2). */
const ownFor = 10_000;
/** So many ids are remembered as such. */
const mostOwn = 10_000;
/** What is told may be lost: whoever waits looks again after so many milliseconds. */
const longestWait = 500;
/** What is revalidated behind an answer may take so long, in milliseconds. */
const behindFor = 30_000;

export class Loads {
  readonly #host: LoadsHost;
  readonly #flights = new Map<string, Flight<Outcome>>();
  /** Quick looks under way. */
  readonly #looks = new Map<string, Promise<FleetRecord | undefined>>();
  /** For requests of other processes. */
  readonly waits: Waits = new Waits();
  /** Until when nobody waits for another's answer, by id. */
  readonly #own = new Map<string, number>();
  readonly #behind = new Set<AbortController>();

  constructor(host: LoadsHost) {
    this.#host = host;
  }

  async load(question: Question): Promise<unknown> {
    const { memory, figures } = this.#host;
    const { id, call, note } = question;
    const { cause, mode } = call.context;
    // Somebody asks for what the source has now, and not for what is known of it.
    if (mode !== "default" && cause !== "invalidated") return this.#anew(question);
    const known = memory.find(id);
    if (known) {
      figures.memoryHits++;
      note(known.version);
      return known.answerForMany(this.#host.now());
    }
    if (this.#isOwn(id)) return this.#alone(question);
    const looked = await this.#lookQuickly(question);
    call.context.signal.throwIfAborted();
    return looked ?? this.#together(question);
  }

  /** One flight for each id: whoever finds that it was not for sharing asks on their own. */
  async #together(question: Question): Promise<unknown> {
    const { memory, figures } = this.#host;
    const { id, call, note } = question;
    // A process that has been stopped does not know whether what is under way is of before something that it has not heard.
    const open = memory.isBelieved ? this.#flights.get(id) : undefined;
    const flight = open?.isOpen ? open : this.#fly(question);
    const leads = flight !== open;
    const outcome = await flight.join(call.context.signal);
    if (outcome.kind === "shared") {
      if (!leads) figures.joined++;
      note(outcome.record.version);
      if (leads && outcome.own !== undefined) return outcome.own;
      return outcome.record.answerForMany(this.#host.now(), outcome.failure);
    }
    if (outcome.kind === "failed" && (leads || outcome.isForAll)) throw outcome.thrown;
    if (outcome.kind === "own" && leads) return outcome.came;
    return this.#alone(question);
  }

  #fly(question: Question): Flight<Outcome> {
    const { id } = question;
    const flight = new Flight((signal) => this.#obtain(question, signal));
    this.#flights.set(id, flight);
    flight.onEnd(() => {
      if (this.#flights.get(id) === flight) this.#flights.delete(id);
    });
    return flight;
  }

  /** From the store, or from the source: for all who wait. */
  async #obtain(question: Question, signal: AbortSignal): Promise<Outcome> {
    for (let hasWaited = false; ; hasWaited = true) {
      signal.throwIfAborted();
      const wait = this.waits.begin(question.id);
      try {
        const outcome = await this.#takeOrWait(question, signal, wait, hasWaited);
        if (outcome) return outcome;
      } finally {
        wait.end();
      }
    }
  }

  /** @returns undefined where it is to look again */
  async #takeOrWait(
    question: Question,
    signal: AbortSignal,
    wait: Wait,
    hasWaited: boolean,
  ): Promise<Outcome | undefined> {
    const { id, call } = question;
    const { contact, figures, memory } = this.#host;
    const { hearing } = memory;
    const found = await this.#take(id, hasWaited, signal);
    if (!found) return this.#ask(question, { signal });
    if (found.state === "own") {
      this.#markOwn(id);
      return { kind: "apart" };
    }
    if (found.state === "failed") return { kind: "failed", thrown: toldFailure(found.failure), isForAll: true };
    const record = this.#readable(found.stored);
    const isGood = record !== undefined && found.state !== "invalid" && !memory.isBad(id, record);
    if (isGood && found.state === "fresh") {
      figures.storeHits++;
      memory.remember(id, record, hearing);
      return { kind: "shared", record, own: record.answerForOne(this.#host.now()) };
    }
    // Rule T6.
    if (isGood && found.state === "stale" && call.context.held === undefined && record.isUsable(this.#host.now())) {
      figures.staleHits++;
      if (found.token) this.#revalidate(question, record, found.token);
      return { kind: "shared", record };
    }
    if (found.token || found.state === "fresh") {
      const before = isGood || found.state === "invalid" ? record : undefined;
      return this.#ask(question, { signal, before, isGood, token: found.token });
    }
    figures.waited++;
    const most = Math.min(found.leaseLeft ?? longestWait, longestWait);
    await wait.until(most, signal, (delay, callback) => this.#host.after(delay, callback));
    return contact.isAway ? this.#ask(question, { signal }) : undefined;
  }

  /** What is fresh, and known here to be good: one plain read of the store, for all who look meanwhile. */
  async #lookQuickly({ id, note }: Question): Promise<Answer<unknown> | undefined> {
    const { figures, memory } = this.#host;
    if (memory.hearing === undefined || memory.isAlone || !memory.isBelieved || this.#flights.has(id)) return undefined;
    const open = this.#looks.get(id);
    const look = open ?? this.#look(id);
    if (!open) this.#looks.set(id, look);
    const record = await look;
    if (this.#looks.get(id) === look) this.#looks.delete(id);
    if (!record) return undefined;
    if (open) figures.joined++;
    else figures.storeHits++;
    note(record.version);
    const now = this.#host.now();
    return open ? record.answerForMany(now) : record.answerForOne(now);
  }

  async #look(id: string): Promise<FleetRecord | undefined> {
    const { contact, memory } = this.#host;
    const { hearing } = memory;
    const looked = await contact.ask((store) => store.look(id));
    if (!looked || looked.stored.age >= looked.lifetime || looked.invalidatedAt > looked.stored.version)
      return undefined;
    if (!memory.isGood(id, looked.stored)) return undefined;
    const record = recordOf(looked.stored, this.#host.now());
    if (record) memory.remember(id, record, hearing);
    return record;
  }

  /** A lease that is given to nobody any more is given back. */
  async #take(id: string, hasWaited: boolean, signal: AbortSignal): Promise<Found | undefined> {
    const found = await this.#host.contact.ask((store) => store.take(id, hasWaited));
    if (found?.token) this.#host.figures.leases++;
    if (found?.token && signal.aborted) new Lease(id, found.token, this.#host).release({});
    signal.throwIfAborted();
    return found;
  }

  #readable(stored: StoredRecord | undefined): FleetRecord | undefined {
    const record = stored && recordOf(stored, this.#host.now());
    if (stored && !record) this.#host.figures.unreadable++;
    return record;
  }

  // ── Asking the source ──────────────────────────────────────────────────────

  /** For nobody but whoever asks. */
  async #alone(question: Question): Promise<unknown> {
    const outcome = await this.#ask(question, { signal: question.call.context.signal, isAlone: true });
    if (outcome.kind === "failed") throw outcome.thrown;
    if (outcome.kind !== "shared") return outcome.came;
    return outcome.own ?? outcome.record.answerForMany(this.#host.now(), outcome.failure);
  }

  /** What somebody has asked for expressly: put for the others, whatever they have. */
  async #anew(question: Question): Promise<unknown> {
    const { id, call, note } = question;
    const { signal } = call.context;
    const token = await this.#host.contact.ask((store) => store.takeAnew(id));
    const outcome = await this.#ask(question, { signal, token });
    this.#host.memory.forget(id); // what it has put is in the store, and newer
    if (outcome.kind === "failed") throw outcome.thrown;
    if (outcome.kind !== "shared") return outcome.came;
    note(outcome.record.version);
    return outcome.own;
  }

  /** Rule T6: behind a stale answer that has been given. */
  #revalidate(question: Question, before: FleetRecord, token: string): void {
    const abort = new AbortController();
    this.#behind.add(abort);
    const end = this.#host.after(behindFor, () => abort.abort(new Failure("timeout", "Nobody waits for it any more.")));
    void this.#ask(question, { signal: abort.signal, before, isGood: true, token }).finally(() => {
      end();
      this.#behind.delete(abort);
    });
  }

  async #ask(question: Question, how: Asking): Promise<AskedOutcome> {
    const { figures } = this.#host;
    const { id, call, proceed } = question;
    const { before, token, signal } = how;
    const lease = token === undefined ? undefined : new Lease(id, token, this.#host);
    figures.requests++;
    const offered = before?.entry.kind === "value" && before.isValidatable ? before : undefined;
    const changes: LoadChanges = {
      signal,
      read: (...part) => {
        this.#markOwn(id); // rule T10: its parts are shared
        lease?.release({ own: ownFor });
        return call.context.read(...part);
      },
      // Whoever asks for all asks for what all can have: not whether one cache's own value still holds.
      ...(lease ? { held: offered && this.#heldOf(offered, call) } : {}),
    };
    try {
      return await this.#outcomeOf(question, how, await proceed(changes), offered, lease);
    } catch (thrown) {
      return this.#failed(thrown, how, lease);
    } finally {
      lease?.end();
    }
  }

  async #outcomeOf(
    question: Question,
    { isAlone, token }: Asking,
    came: unknown,
    offered: FleetRecord | undefined,
    lease: Lease | undefined,
  ): Promise<AskedOutcome> {
    const { figures, memory, options } = this.#host;
    const { id, call, audience } = question;
    const now = this.#host.now();
    const answered = isAnswer(came) ? came : answer(came);
    const version = token ? Number(token) : memory.nextAlone();
    const record = isIterable(came)
      ? undefined
      : await recordOfAnswer(call, answered, offered, { audience, maxBytes: options.maxBytes, version, now });
    const isUnchanged = answered.kind === "unchanged";
    if (!record) {
      figures.notShared++;
      if (!isUnchanged || offered) this.#markOwn(id);
      lease?.release(isUnchanged && !offered ? {} : { own: ownFor });
      // What was offered is not what the cache itself holds.
      return { kind: "own", came: isUnchanged && offered ? offered.answerUnchanged(now, answered.details) : came };
    }
    this.#own.delete(id);
    if (lease && !lease.isOver) this.#put(lease, record);
    else if (!isAlone) memory.remember(id, record, undefined);
    return { kind: "shared", record, own: isUnchanged ? record.answerForMany(now) : came };
  }

  /** Rule T7. What is the server's trouble is so for all who wait; what it says to one is not. */
  #failed(thrown: unknown, { before, isGood, signal }: Asking, lease: Lease | undefined): AskedOutcome {
    const failure = asFailure(thrown);
    const isForAll = !signal.aborted && failure.kind !== "load" && mayBeCovered(failure);
    lease?.release(isForAll ? { failure: JSON.stringify({ kind: failure.kind, status: failure.status }) } : {});
    if (isForAll && isGood && before?.coversError(this.#host.now())) {
      this.#host.figures.coveredFailures++;
      return { kind: "shared", record: before, failure };
    }
    return { kind: "failed", thrown, isForAll };
  }

  #heldOf(record: FleetRecord, { context }: LoadCall): NonNullable<LoadChanges["held"]> {
    const { etag, lastModified } = record.entry;
    const validator = {
      ...(etag === undefined ? {} : { etag }),
      ...(lastModified === undefined ? {} : { lastModified }),
    };
    return { value: record.sharedValue, validator, storedAt: context.now() - record.age(this.#host.now()) };
  }

  #put(lease: Lease, record: FleetRecord): void {
    const { figures, memory, options } = this.#host;
    const { hearing } = memory;
    void lease.put(record.put(this.#host.now(), options.keep)).then((said) => {
      if (said === "stored") memory.remember(lease.id, record, hearing);
      else if (said) figures.refused++;
    });
  }

  // ── What is not for sharing ────────────────────────────────────────────────

  #isOwn(id: string): boolean {
    const until = this.#own.get(id);
    if (until === undefined) return false;
    if (this.#host.now() < until) return true;
    this.#own.delete(id);
    return false;
  }

  #markOwn(id: string): void {
    this.#own.delete(id);
    this.#own.set(id, this.#host.now() + ownFor);
    for (const [oldest] of this.#own) if (this.#own.size > mostOwn) this.#own.delete(oldest);
  }

  /** Whoever comes after something was called out of date waits for nothing that was begun before. */
  forgetFlights(): void {
    this.#flights.clear();
    this.#looks.clear();
  }

  close(): void {
    for (const abort of this.#behind) abort.abort(new Failure("aborted", "The fleet was left."));
    this.waits.tell();
  }
}

interface Asking {
  readonly signal: AbortSignal;
  /** What the store has, and whether it may still be given. */
  readonly before?: FleetRecord | undefined;
  readonly isGood?: boolean | undefined;
  readonly token?: string | undefined;
  /** What it is found is for whoever asks, and not remembered. */
  readonly isAlone?: boolean;
}

function isIterable(came: unknown): came is AsyncIterable<unknown> {
  return typeof came === "object" && came !== null && Symbol.asyncIterator in came;
}

/** Of the message that another process had nothing is told: it may hold what is one user's. */
function toldFailure(told = "{}"): Failure {
  let said: { kind?: unknown; status?: unknown } = {};
  try {
    said = JSON.parse(told) ?? {};
  } catch {}
  const kind = said.kind === "timeout" || said.kind === "http" || said.kind === "load" ? said.kind : "network";
  const status = typeof said.status === "number" ? said.status : undefined;
  const why = status === undefined ? kind : `${kind}, status ${status}`;
  return new Failure(kind, `Another process of the fleet has asked for it in vain (${why}).`, { status });
}
