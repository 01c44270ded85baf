/** The interceptor around the loads of shared caches: memory, the fleet's store, and one request for all. Rules T1 to T12. */

import { asFailure, checkedAnswer, isAnswer, wasChecked } from "../core/doors/answers.js";
import { type Answer, Failure } from "../core/index.js";
import { Asking, type AskingHost, type FleetQuestion, type Outcome } from "./asking.js";
import { Flight } from "./flights.js";
import { Lease } from "./lease.js";
import { OwnMarks } from "./own-marks.js";
import { type FleetRecord, isOfAnotherForm, recordOf } from "./record.js";
import type { Found, StoredRecord } from "./store.js";
import { type Wait, Waits } from "./waits.js";

/** Messages may be lost: a waiting process looks again after so many milliseconds. */
const longestWait = 500;
/** How long a revalidation in the background may take, in milliseconds. */
const behindFor = 30_000;

/** The waits of one request so far. */
interface Seen {
  hasWaited: boolean;
  /** The record that the store had when it was last looked at, where that may still be given. */
  record: FleetRecord | undefined;
}

export class Loads {
  readonly #host: AskingHost;
  readonly #flights = new Map<string, Flight<Outcome>>();
  /** Quick looks under way. */
  readonly #looks = new Map<string, Promise<FleetRecord | undefined>>();
  /** For requests of other processes. */
  readonly waits: Waits = new Waits();
  readonly #own: OwnMarks;
  readonly #asking: Asking;
  readonly #behind = new Set<AbortController>();

  constructor(host: AskingHost) {
    this.#host = host;
    this.#own = new OwnMarks(() => host.now());
    this.#asking = new Asking(host, this.#own);
  }

  /** A record that this process remembers, and that may be given. */
  known(id: string, note: FleetQuestion["note"]): Answer<unknown> | undefined {
    const { memory, figures } = this.#host;
    const record = memory.find(id);
    if (!record) return undefined;
    figures.memoryHits++;
    note(record.version);
    return record.answerForMany(this.#host.now());
  }

  async load(question: FleetQuestion): Promise<unknown> {
    const { id, call, note } = question;
    const { cause, mode } = call.context;
    // The caller asks for the source's present value, and not for a known one.
    if (mode !== "default" && cause !== "invalidated") return this.#anew(question);
    const known = this.known(id, note);
    if (known) return this.#checked(question, known);
    if (this.#own.has(id)) return this.#alone(question);
    const looked = await this.#lookQuickly(question);
    if (looked) return this.#checked(question, looked);
    call.context.signal.throwIfAborted(); // only now: a signal is made when it is looked at
    return this.#together(question);
  }

  /** One flight for each id: a caller who finds that it was not for sharing asks alone. */
  async #together(question: FleetQuestion): Promise<unknown> {
    const { memory, figures } = this.#host;
    const { id, call, note } = question;
    // A process that has been stopped does not know whether a request under way is older than an invalidation that it has not heard.
    const open = memory.isBelieved ? this.#flights.get(id) : undefined;
    const flight = open?.isOpen ? open : this.#fly(question);
    const leads = flight !== open;
    const outcome = await flight.join(call.context.signal);
    if (outcome.kind === "shared") {
      if (!leads) figures.joined++;
      if (!leads && outcome.isStale && call.context.held !== undefined) return this.#together(question);
      note(outcome.record.version);
      const own = leads ? outcome.own : undefined;
      const failure = leads ? outcome.failure : outcome.failure && withoutText(outcome.failure);
      return this.#checked(question, own ?? outcome.record.answerForMany(this.#host.now(), failure));
    }
    if (outcome.kind === "failed" && leads) throw outcome.thrown;
    if (outcome.kind === "failed" && outcome.isForAll) throw withoutText(asFailure(outcome.thrown));
    if (outcome.kind === "own" && leads) return outcome.came;
    return this.#alone(question);
  }

  /** Rule T11: a value that another version of the program has put, and this one's check refuses, is requested anew. */
  async #checked(question: FleetQuestion, came: unknown): Promise<unknown> {
    const { check } = question.call.definition;
    if (!check || !isAnswer(came) || wasChecked(came)) return came;
    try {
      return await checkedAnswer(check, came);
    } catch {
      this.#host.figures.unreadable++;
      return this.#anew(question);
    }
  }

  #fly(question: FleetQuestion): Flight<Outcome> {
    const { id } = question;
    const flight = new Flight((signal) => this.#obtain(question, signal));
    this.#flights.set(id, flight);
    flight.onEnd(() => {
      if (this.#flights.get(id) === flight) this.#flights.delete(id);
    });
    return flight;
  }

  /** From the store, or from the source: for all who wait. */
  async #obtain(question: FleetQuestion, signal: AbortSignal): Promise<Outcome> {
    const seen: Seen = { hasWaited: false, record: undefined };
    for (; ; seen.hasWaited = true) {
      signal.throwIfAborted();
      const wait = this.waits.begin(question.id);
      try {
        const outcome = await this.#takeOrWait(question, signal, wait, seen);
        if (outcome) return outcome;
      } finally {
        wait.end();
      }
    }
  }

  /** @returns undefined where it is to look again */
  async #takeOrWait(
    question: FleetQuestion,
    signal: AbortSignal,
    wait: Wait,
    seen: Seen,
  ): Promise<Outcome | undefined> {
    const { id, call } = question;
    const { contact, figures, memory } = this.#host;
    const { hearing } = memory;
    const found = await this.#take(id, seen.hasWaited, signal);
    if (!found) return this.#asking.ask(question, { signal });
    if (found.state === "own") {
      this.#own.add(id);
      return { kind: "apart" };
    }
    if (found.state === "failed") return this.#failedElsewhere(id, toldFailure(found.failure), seen.record);
    const record = this.#readable(found.stored);
    const isGood = record !== undefined && found.state !== "invalid" && !memory.isBad(id, record);
    seen.record = isGood ? record : undefined;
    if (isGood && found.state === "fresh") {
      figures.storeHits++;
      memory.remember(id, record, hearing);
      return { kind: "shared", record, own: record.answerForOne(this.#host.now()) };
    }
    // Rule T6.
    if (isGood && found.state === "stale" && call.context.held === undefined && record.isUsable(this.#host.now())) {
      figures.staleHits++;
      if (found.token) this.#revalidate(question, record, found.token);
      return { kind: "shared", record, isStale: true };
    }
    if (found.token || found.state === "fresh") {
      const before = isGood || found.state === "invalid" ? record : undefined;
      const isBroken = !found.token && !record && !isOfAnotherForm(found.stored?.meta);
      const token = isBroken ? await contact.ask((store) => store.takeAnew(id)) : found.token;
      return this.#asking.ask(question, { signal, before, isGood, token });
    }
    figures.waited++;
    const most = Math.min(found.leaseLeft ?? longestWait, longestWait);
    await wait.until(most, signal, (delay, callback) => this.#host.after(delay, callback));
    return contact.isAway ? this.#asking.ask(question, { signal }) : undefined;
  }

  /** Another process has asked in vain: the stored value is given all the same where that is allowed (rule T7). */
  #failedElsewhere(id: string, failure: Failure, record: FleetRecord | undefined): Outcome {
    const { memory, figures } = this.#host;
    if (!record || memory.isBad(id, record) || !record.coversError(this.#host.now()))
      return { kind: "failed", thrown: failure, isForAll: true };
    figures.coveredFailures++;
    return { kind: "shared", record, failure };
  }

  /** A fresh record that is not invalidated by what is known here: one plain read of the store, for all who look meanwhile. */
  async #lookQuickly({ id, note }: FleetQuestion): Promise<Answer<unknown> | undefined> {
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

  /** A lease that no request needs any more is given back. */
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

  /** For the caller alone. */
  async #alone(question: FleetQuestion): Promise<unknown> {
    const outcome = await this.#asking.ask(question, { signal: question.call.context.signal, isAlone: true });
    if (outcome.kind === "failed") throw outcome.thrown;
    if (outcome.kind !== "shared") return outcome.came;
    return outcome.own ?? outcome.record.answerForMany(this.#host.now(), outcome.failure);
  }

  /** An answer that was asked for by hand: put for the others, whatever they have. */
  async #anew(question: FleetQuestion): Promise<unknown> {
    const { id, call, note } = question;
    const { signal } = call.context;
    const token = await this.#host.contact.ask((store) => store.takeAnew(id));
    const outcome = await this.#asking.ask(question, { signal, token });
    this.#host.memory.forget(id); // what it has put is in the store, and newer
    if (outcome.kind === "failed") throw outcome.thrown;
    if (outcome.kind !== "shared") return outcome.came;
    note(outcome.record.version);
    return outcome.own;
  }

  /** Rule T6: behind a stale answer that has been given. */
  #revalidate(question: FleetQuestion, before: FleetRecord, token: string): void {
    const abort = new AbortController();
    this.#behind.add(abort);
    const end = this.#host.after(behindFor, () => abort.abort(new Failure("timeout", "Nobody waits for it any more.")));
    void this.#asking.ask(question, { signal: abort.signal, before, isGood: true, token }).finally(() => {
      end();
      this.#behind.delete(abort);
    });
  }

  /** A caller that comes after an invalidation does not wait for a request that was begun before it. */
  forgetFlights(): void {
    this.#flights.clear();
    this.#looks.clear();
  }

  close(): void {
    for (const abort of this.#behind) abort.abort(new Failure("aborted", "The fleet was left."));
    this.waits.tell();
  }
}

/** The failure that another process has told of. */
function toldFailure(told = "{}"): Failure {
  try {
    return withoutText(JSON.parse(told) ?? {});
  } catch {
    return withoutText({});
  }
}

/** The failure of another caller's request. Its text and its problem are left out: they may hold one user's data. */
function withoutText(told: { readonly kind?: unknown; readonly status?: unknown }): Failure {
  const kind = told.kind === "timeout" || told.kind === "http" || told.kind === "load" ? told.kind : "network";
  const status = typeof told.status === "number" ? told.status : undefined;
  const why = status === undefined ? kind : `${kind}, status ${status}`;
  return new Failure(kind, `Another caller of the fleet has asked for it in vain (${why}).`, { status });
}
