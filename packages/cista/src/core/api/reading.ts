/** Readings: immutable pictures of an entry, the members that they are compared by, and the views that show them. Rule N2. */
import type { Duration } from "./duration.js";
import { Failure } from "./failure.js";

/** `waiting` is the pause before another try, `offline` a request that starts when the network is back. */
export type RequestPhase = "none" | "running" | "waiting" | "offline";

/**
 * An immutable picture of an entry: a plain value, whose members are its own. Beside them it can be asked for anew, by
 * `revalidate`, which a copy has no more. The same object as before wherever nothing in it changed.
 */
export type Reading<T> = Empty | Loading<T> | Ready<T> | Missing | Failed;

/** Methods of a reading are members of its prototype: TypeScript leaves them out of a copy (`{ ...reading }`), as the copy does. */
export declare abstract class Revalidatable {
  /** Asks the source now (cause "manual"), also where nothing is held yet. Bound: can be handed to a button as it is. */
  get revalidate(): () => Promise<void>;
}

interface Common extends Revalidatable {
  readonly key: string;
  readonly request: RequestPhase;
}

/** Nothing held, and nothing under way. */
export interface Empty extends Common {
  readonly state: "empty";
  readonly value?: undefined;
  readonly provisional?: undefined;
  readonly fresh?: undefined;
  readonly asOf?: undefined;
  readonly failure?: undefined;
  readonly pendingWrites?: undefined;
}

/** Nothing that may be shown yet; an answer is on its way. */
export interface Loading<T> extends Common {
  readonly state: "loading";
  /** A stand-in, or the value of other params. */
  readonly value?: T;
  readonly provisional?: "stand-in" | "carried";
  readonly fresh?: undefined;
  readonly asOf?: undefined;
  /** Of the try before this one. */
  readonly failure?: Failure;
  readonly pendingWrites?: undefined;
}

/** A value is held. `failure` is there when the last revalidation failed and the value may still be shown. */
export interface Ready<T> extends Common {
  readonly state: "ready";
  readonly value: T;
  readonly provisional?: undefined;
  readonly fresh: boolean;
  /** When its age began, in milliseconds since the Unix epoch: an age that it came with (RFC 9111 §5.1) is counted, so that `Date.now() - asOf` is how old it is. */
  readonly asOf: number;
  readonly failure?: Failure;
  readonly pendingWrites: number;
}

/** The source says there is no such thing. */
export interface Missing extends Common {
  readonly state: "missing";
  readonly value?: undefined;
  readonly provisional?: undefined;
  readonly fresh: boolean;
  readonly asOf: number;
  readonly failure?: Failure;
  readonly pendingWrites?: undefined;
}

/** Nothing that may be shown, and the last request failed. */
export interface Failed extends Common {
  readonly state: "failed";
  readonly value?: undefined;
  readonly provisional?: undefined;
  readonly fresh?: undefined;
  readonly asOf?: undefined;
  readonly failure: Failure;
  readonly pendingWrites?: undefined;
}

/** A live, subscribable handle on one entry. */
export interface View<T> {
  readonly key: string;
  /** The reading now. Never starts a request; the same object until something changes. */
  get(): Reading<T>;
  /** Attaches with its first listener, and detaches when the last has left. Notified after every change of the reading, never during `subscribe`. Returns its own end. */
  subscribe(listener: () => void): () => void;
  /** Requests the entry now, or joins a request under way that is new enough. */
  revalidate(): Promise<Reading<T>>;
}

export interface ViewOptions<T, U = T> {
  /** False: attached but never starts a request by itself; `revalidate()` still does. Default true. */
  when?: boolean | undefined;
  /**
   * Only this part of the value is shown, and only its changes are told. An error that it throws is shown as a `Failure`, and
   * reported as uncaught once.
   */
  pick?: { pick(value: T): U }["pick"] | undefined;
  /**
   * Revalidate this often for as long as this view is attached; false: never. Of several views' and the source's own the
   * shortest counts.
   */
  revalidateEvery?: Interval<T> | false | undefined;
}

/** A length of time, or a function that makes one of the held value: false for no more requests. */
export type Interval<T, P = any> = Duration | Callback<(value: T, params: P) => Duration | false>;

/** A function whose parameters are compared as a method's are, so that a source of one kind of value is also one of anything. */
export type Callback<F extends (...all: any[]) => unknown> = {
  call(...all: Parameters<F>): ReturnType<F>;
}["call"];

/** Every member of every state, so that all readings have one hidden class. */
export interface Members {
  readonly key: string;
  readonly state: Reading<unknown>["state"];
  readonly value: unknown;
  readonly provisional: "stand-in" | "carried" | undefined;
  readonly fresh: boolean | undefined;
  readonly asOf: number | undefined;
  readonly failure: Failure | undefined;
  readonly pendingWrites: number | undefined;
  readonly request: RequestPhase;
}

export interface AnyReading extends Members, Revalidatable {}

/** The members of a state that `Members` does not list: `Picture` does not compile until it does. */
type Unlisted = Exclude<keyof Reading<unknown>, keyof AnyReading>;

class Picture implements AnyReading, Record<Unlisted, never> {
  readonly key: string;
  readonly state: Members["state"];
  readonly value: unknown;
  readonly provisional: Members["provisional"];
  readonly fresh: boolean | undefined;
  readonly asOf: number | undefined;
  readonly failure: Failure | undefined;
  readonly pendingWrites: number | undefined;
  readonly request: RequestPhase;
  /** The entry that is asked, or another that does it. */
  readonly #asked: Revalidatable;

  constructor(shown: Members, asked: Revalidatable) {
    this.key = shown.key;
    this.state = shown.state;
    this.value = shown.value;
    this.provisional = shown.provisional;
    this.fresh = shown.fresh;
    this.asOf = shown.asOf;
    this.failure = shown.failure;
    this.pendingWrites = shown.pendingWrites;
    this.request = shown.request;
    this.#asked = asked;
    Object.freeze(this);
  }

  get revalidate(): () => Promise<void> {
    return this.#asked.revalidate;
  }

  /** Of a reading of another copy of the library too. */
  static askedOf(reading: AnyReading): Revalidatable {
    return #asked in reading ? reading.#asked : reading;
  }
}

/** @param asked has the function `revalidate`, which is looked at when somebody looks at the reading's */
export function makeReading(shown: Members, asked: Revalidatable): AnyReading {
  return new Picture(shown, asked);
}

/** Nothing to show. */
export function makeEmpty(key: string, asked: Revalidatable): AnyReading {
  return makeReading({ key, state: "empty", ...nothing, request: "none" }, asked);
}

/** The members that a reading without a value does not have. */
export const nothing = {
  value: undefined,
  provisional: undefined,
  fresh: undefined,
  asOf: undefined,
  failure: undefined,
  pendingWrites: undefined,
} as const;

/** A reading with some members of it changed. */
export function readingWith(reading: AnyReading, changes: Partial<Members>): AnyReading {
  return makeReading({ ...reading, ...changes }, Picture.askedOf(reading));
}

/** The members that two readings are compared by; the key and `revalidate` follow from the entry. */
export function sameReading(one: Members, other: Members): boolean {
  return samePart(one, other) && one.request === other.request && one.asOf === other.asOf;
}

/** Rule N2: the members that two readings of a view with `pick` are compared by. */
export function samePart(one: Members, other: Members): boolean {
  return (
    one.state === other.state &&
    one.value === other.value &&
    one.fresh === other.fresh &&
    one.failure === other.failure &&
    one.provisional === other.provisional &&
    one.pendingWrites === other.pendingWrites
  );
}

/** A value was asked for and there can be none. */
export function missingFailure(key: string): Failure {
  return Object.assign(
    new Failure("missing", `There is no ${key}: its source says so. Show it as missing, or use peek.`),
    { key },
  );
}

export interface Branches<T, R> {
  empty?(reading: Empty): R;
  loading(reading: Loading<T> | Empty): R;
  ready(value: T, reading: Ready<T>): R;
  missing?(reading: Missing): R;
  failed(failure: Failure, reading: Failed | Missing): R;
}

/**
 * One branch for each thing there can be to show; leaving a needed one out is a type error.
 * `empty` falls back to `loading`; `missing` to `failed`, with a Failure of kind "missing".
 */
export function match<T, R>(reading: Reading<T>, branches: Branches<T, R>): R {
  switch (reading.state) {
    case "empty":
      return branches.empty ? branches.empty(reading) : branches.loading(reading);
    case "loading":
      return branches.loading(reading);
    case "ready":
      return branches.ready(reading.value, reading);
    case "missing":
      return branches.missing ? branches.missing(reading) : branches.failed(missingFailure(reading.key), reading);
    case "failed":
      return branches.failed(reading.failure, reading);
  }
}
