/** A fleet's record of one entry: made of an answer, kept as text, given to all who ask. Rules T1, T3, T5, T12. */

import { detailsOf, type StoredEntry, wellFormed } from "../core/doors/sharing.js";
import { freezeDeep, omitUndefined } from "../core/doors/tools.js";
import { type Answer, type AnswerDetails, answer, type Failure, missing } from "../core/index.js";
import type { Put, StoredRecord } from "./store.js";

/** Of the records' form: others are not read. */
export const formVersion = 1;

/** Beside the entry as a snapshot has it, the members for the fleet alone. */
interface Meta {
  readonly form: typeof formVersion;
  readonly entry: Omit<StoredEntry, "value" | "age">;
  /** Null is for ever. */
  readonly lifetime: number | null;
  readonly mustRevalidate?: boolean;
}

/** About the bytes that a member or an item takes in memory, beside its text. */
const bytesOfPart = 24;

/** At most so many members, items, objects and lists has a JSON text. */
function partsIn(text: string): number {
  let parts = 0;
  for (let at = 0; at < text.length; at++) {
    const letter = text.charCodeAt(at);
    if (letter === 0x2c || letter === 0x5b || letter === 0x7b) parts++;
  }
  return parts;
}

export class FleetRecord {
  readonly entry: StoredEntry;
  /** Milliseconds: its lifetime for the fleet (s-maxage before max-age). */
  readonly lifetime: number;
  /** Past this moment it is not given before it has been revalidated. */
  readonly mustRevalidate: boolean;
  /** The labels that it can be invalidated by. */
  readonly labels: readonly string[];
  readonly version: number;
  readonly #text: string;
  readonly #takenAt: number;
  /** The value of the text, where it is at hand; whether a caller has been given it who may change it. */
  #value: unknown;
  #isAtHand: boolean;
  #bytes: number | undefined;

  constructor(
    entry: StoredEntry,
    more: Pick<FleetRecord, "lifetime" | "mustRevalidate" | "labels" | "version">,
    text: string,
    at: number,
    value?: unknown,
  ) {
    this.entry = entry;
    this.lifetime = more.lifetime;
    this.mustRevalidate = more.mustRevalidate;
    this.labels = more.labels;
    this.version = more.version;
    this.#text = text;
    this.#takenAt = at;
    this.#value = value;
    this.#isAtHand = value !== undefined;
  }

  /** About the bytes that its text takes, and its value once it is made of it. */
  get bytes(): number {
    this.#bytes ??= 2 * this.#text.length + bytesOfPart * partsIn(this.#text);
    return this.#bytes;
  }

  age(now: number): number {
    return this.entry.age + Math.max(0, now - this.#takenAt);
  }

  isFresh(now: number): boolean {
    return this.age(now) < this.lifetime;
  }

  /** Rule T6: whether it may be shown while it is revalidated. */
  isUsable(now: number): boolean {
    return (
      !this.#isStrict && this.age(now) < this.lifetime + (this.entry.staleWhileRevalidate ?? Number.POSITIVE_INFINITY)
    );
  }

  /** Rule T7: whether it may stand in for a failed answer. */
  coversError(now: number): boolean {
    return !this.#isStrict && this.age(now) < this.lifetime + (this.entry.staleIfError ?? Number.POSITIVE_INFINITY);
  }

  /** Whether the source can be asked whether it still holds. */
  get isValidatable(): boolean {
    return this.entry.etag !== undefined || this.entry.lastModified !== undefined;
  }

  get #isStrict(): boolean {
    return this.mustRevalidate || this.entry.mustRevalidate === true;
  }

  /** For one taker, who may do with the value as it likes. */
  answerForOne(now: number): Answer<unknown> {
    const value = this.#isAtHand && !Object.isFrozen(this.#value) ? this.#value : this.#parsed();
    this.#isAtHand = false;
    return this.#answer(() => value, now);
  }

  /** For many (rule T12): none of them can change it. @param failure it stands in for */
  answerForMany(now: number, failure?: Failure): Answer<unknown> {
    return this.#answer(() => this.sharedValue, now, failure);
  }

  /** It still holds, and that was said of it. */
  answerUnchanged(now: number, details: AnswerDetails): Answer<unknown> {
    const same = this.answerForMany(now);
    return answer(same.value, { ...same.details, ...details });
  }

  /** Frozen. */
  get sharedValue(): unknown {
    if (!this.#isAtHand) this.#value = this.#parsed();
    this.#isAtHand = true;
    freezeDeep(this.#value);
    return this.#value;
  }

  #parsed(): unknown {
    return this.entry.kind === "missing" ? undefined : JSON.parse(this.#text);
  }

  #answer(value: () => unknown, now: number, failure?: Failure): Answer<unknown> {
    const details: AnswerDetails = { ...detailsOf(this.entry), age: this.age(now), ...(failure ? { failure } : {}) };
    return this.entry.kind === "missing" ? missing(details) : answer(value(), details);
  }

  /** @param most how long at most it is kept, in milliseconds */
  put(now: number, most: number): Put {
    const { value, age, ...entry } = this.entry;
    const { staleWhileRevalidate, staleIfError } = entry;
    const meta: Meta = omitUndefined({
      form: formVersion,
      entry,
      lifetime: Number.isFinite(this.lifetime) ? this.lifetime : null,
      mustRevalidate: this.mustRevalidate || undefined,
    });
    const pastIt = Math.max(staleWhileRevalidate ?? most, staleIfError ?? most);
    const left = this.lifetime - this.age(now) + pastIt;
    return {
      value: this.#text,
      meta: JSON.stringify(meta),
      age: Math.round(this.age(now)),
      lifetime: Math.min(this.lifetime, Number.MAX_SAFE_INTEGER),
      keep: Math.round(Math.max(1000, Math.min(most, left))),
      labels: this.labels,
    };
  }
}

/** The parsed details of a value, by their text: that of one entry is the same each time. So many are kept. */
const known = new Map<string, Meta | undefined>();
const mostKnown = 1000;

/** A record that another process has put, if it can be read: each of its members is tested (rule S1). */
export function recordOf(
  { meta: said, value: text, version, age, labels }: StoredRecord,
  at: number,
): FleetRecord | undefined {
  if (!known.has(said)) {
    if (known.size >= mostKnown) known.clear();
    known.set(said, metaIn(said));
  }
  const meta = known.get(said);
  if (!meta) return undefined;
  let value: unknown;
  try {
    value = meta.entry.kind === "missing" ? undefined : JSON.parse(text);
  } catch {
    return undefined;
  }
  const entry = { ...meta.entry, age };
  const more = {
    lifetime: meta.lifetime ?? Number.POSITIVE_INFINITY,
    mustRevalidate: meta.mustRevalidate === true,
    labels,
    version,
  };
  return new FleetRecord(entry, more, text, at, value);
}

/** Whether another version of the library has put it, which can read it. */
export function isOfAnotherForm(said = ""): boolean {
  const form = parsed(said)?.form as number | undefined;
  return Number.isSafeInteger(form) && form !== formVersion;
}

function parsed(text: string): Partial<Meta> | undefined {
  try {
    const meta = JSON.parse(text);
    return typeof meta === "object" && meta !== null ? meta : undefined;
  } catch {
    return undefined;
  }
}

function metaIn(text: string): Meta | undefined {
  const meta = parsed(text);
  if (meta?.form !== formVersion) return undefined;
  const { entry, lifetime = null, mustRevalidate } = meta;
  const isLifetime = lifetime === null || (typeof lifetime === "number" && lifetime >= 0);
  const { value: _, ...whole } =
    wellFormed({ ...entry, age: 0, ...(entry?.kind === "missing" ? {} : { value: 0 }) }) ?? {};
  if (!isLifetime || !("kind" in whole)) return undefined;
  return { form: formVersion, entry: whole as StoredEntry, lifetime, mustRevalidate: mustRevalidate === true };
}
