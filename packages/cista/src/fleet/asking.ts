/** One request to the source, for all or for one, and the use of its answer. Rules T1, T4, T7, T10. */

import { asFailure, isAnswer, isIterable, mayBeCovered } from "../core/doors/answers.js";
import { answer, type CompositeContext, type Failure, type LoadCall, type LoadChanges } from "../core/index.js";
import { type Audience, recordOfAnswer } from "./answers.js";
import type { FleetFigures } from "./figures.js";
import { Lease, type LeaseHost } from "./lease.js";
import type { Memory } from "./memory.js";
import { type OwnMarks, ownFor } from "./own-marks.js";
import type { FleetRecord } from "./record.js";

/** The members of the process that requests need. */
export interface AskingHost extends LeaseHost {
  readonly memory: Memory;
  readonly figures: FleetFigures;
  readonly options: { readonly lease: number; readonly keep: number; readonly maxBytes: number };
  now(): number;
}

/** A load, and the use of its answer. */
export interface FleetQuestion {
  /** Of the entry in the store. */
  readonly id: string;
  readonly audience: Audience;
  readonly call: LoadCall;
  proceed(changes?: LoadChanges): unknown;
  /** Is told the version of the record that it was answered by. */
  note(version: number): void;
}

/** The result of a load, for all who wait for it in this process. */
export type Outcome =
  /** It is for all. `own` is for the caller who has asked the source. */
  | {
      readonly kind: "shared";
      readonly record: FleetRecord;
      readonly own?: unknown;
      readonly failure?: Failure;
      /** It is for those who hold nothing (rule T6). */
      readonly isStale?: boolean;
    }
  /** It is for the caller alone who has asked. */
  | { readonly kind: "own"; readonly came: unknown }
  /** No request was made: each caller is to ask alone. */
  | { readonly kind: "apart" }
  | { readonly kind: "failed"; readonly thrown: unknown; readonly isForAll: boolean };

export type AskedOutcome = Exclude<Outcome, { kind: "apart" }>;

/** How it is asked. */
export interface How {
  readonly signal: AbortSignal;
  /** The store's record, and whether it may still be given. */
  readonly before?: FleetRecord | undefined;
  readonly isGood?: boolean | undefined;
  readonly token?: string | undefined;
  /** The answer is for the caller alone, and not remembered. */
  readonly isAlone?: boolean;
}

export class Asking {
  readonly #host: AskingHost;
  readonly #own: OwnMarks;
  /** Sources for all whose answers have turned out to be users' own. */
  readonly #warned = new Set<string>();

  constructor(host: AskingHost, own: OwnMarks) {
    this.#host = host;
    this.#own = own;
  }

  async ask(question: FleetQuestion, how: How): Promise<AskedOutcome> {
    const { figures } = this.#host;
    const { id, call, proceed } = question;
    const { before, token, signal } = how;
    const lease = token === undefined ? undefined : new Lease(id, token, this.#host);
    figures.requests++;
    const offered = before?.entry.kind === "value" && before.isValidatable ? before : undefined;
    const changes: LoadChanges = {
      signal,
      read: (...part) => {
        this.#own.add(id); // rule T10: its dependencies are shared
        lease?.release({ own: ownFor });
        return (call.context as CompositeContext).read(...part);
      },
      // A request for all asks for a value that all can have: not whether one cache's own value still holds.
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
    question: FleetQuestion,
    { isAlone, token }: How,
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
      if (DEVELOPMENT && audience === "all" && answered.details.shared?.for === "user") this.#warnOnce(call);
      if (!isUnchanged || offered) this.#own.add(id);
      lease?.release(isUnchanged && !offered ? {} : { own: ownFor });
      // The offered value is not the one that the cache itself holds.
      return { kind: "own", came: isUnchanged && offered ? offered.answerUnchanged(now, answered.details) : came };
    }
    this.#own.delete(id);
    if (lease && !lease.isOver) this.#put(lease, record);
    else if (!isAlone) memory.remember(id, record, undefined);
    return { kind: "shared", record, own: isUnchanged ? record.answerForMany(now) : came };
  }

  #warnOnce({ source }: LoadCall): void {
    if (this.#warned.has(source)) return;
    this.#warned.add(source);
    console.warn(
      `Cista: the fleet shares "${source}" among all users, but its answers are each user's own: nothing of it is shared, and each request asks. Name it in perUser in place of sources; or have the server say "public" or "s-maxage".`,
    );
  }

  /** Rule T7. A failure of the server holds for all who wait; its refusal of one user does not. */
  #failed(thrown: unknown, { before, isGood, signal }: How, lease: Lease | undefined): AskedOutcome {
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
    return { value: record.sharedValue, validator, asOf: context.now() - record.age(this.#host.now()) };
  }

  #put(lease: Lease, record: FleetRecord): void {
    const { figures, memory, options } = this.#host;
    const { hearing } = memory;
    void lease.put(record.put(this.#host.now(), options.keep)).then((said) => {
      if (said === "stored") memory.remember(lease.id, record, hearing);
      else if (said) figures.refused++;
    });
  }
}
