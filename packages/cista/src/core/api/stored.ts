/** The form of a snapshot, and the check of each of its members. Rule S1. */
import { mostGroups } from "./answer.js";

/** Open and versioned: see docs/snapshot-format.md. */
export interface Snapshot {
  readonly format: "cista-snapshot";
  readonly version: 1;
  /** Milliseconds since the Unix epoch, by the clock of the page or process that took the snapshot. */
  readonly takenAt: number;
  readonly partition?: string;
  /** Of a page that was made for one visit: it is no older than the visit (rule H3). */
  readonly live?: boolean;
  /** Of a page: the keys of values that are still to come in the same stream. */
  readonly coming?: readonly string[];
  readonly entries: readonly unknown[];
}

/** One entry of a snapshot. Lengths of time in milliseconds; `null` is for ever. */
export interface StoredEntry {
  readonly source: string;
  readonly params?: unknown;
  readonly kind: "value" | "missing";
  readonly value?: unknown;
  /** When the snapshot was taken. */
  readonly age: number;
  readonly maxAge: number | null;
  readonly staleWhileRevalidate: number | null;
  readonly staleIfError: number | null;
  readonly mustRevalidate?: boolean;
  readonly immutable?: boolean;
  readonly etag?: string;
  readonly lastModified?: string;
  readonly lastEventId?: string;
  readonly groups?: readonly string[];
  readonly varies?: Readonly<Record<string, string>>;
  /** Only in a page that is not stored itself (rule H5). */
  readonly noStore?: boolean;
  /** Of a page: when it was shown there, where that was before the snapshot was taken. */
  readonly shownAt?: number;
  /** Its dependencies: the source's name and the params of each. */
  readonly parts?: readonly (readonly [source: string, params?: unknown])[];
  /** For whom it is, by the answers that it was made of (rule F9). */
  readonly madeFor?: readonly StoredMadeFor[];
}

export interface StoredMadeFor {
  readonly source: string;
  readonly params?: unknown;
  readonly varies: Readonly<Record<string, string>>;
}

/** Taken in: when, on the cache's clock, and its age then. It may have to wait for its source to be used. */
export interface Restored {
  readonly stored: StoredEntry;
  readonly at: number;
  /** The cache's version then. */
  readonly version: number;
  /** False: taken by a clock that was ahead, so that its age is not known; or invalidated while it waited for its source. */
  readonly trusted: boolean;
  /** It came with a page; made for this visit, or not. */
  readonly page: { readonly isLive: boolean } | undefined;
  /** The entry that was stored under a key beside it; undefined where there was none. */
  readonly beside: (key: string) => StoredEntry | undefined;
}

// ── Foreign input, member by member ──────────────────────────────────────────

type Check = (value: unknown) => boolean;
export const isLength: Check = (value) => typeof value === "number" && value >= 0 && value < Number.POSITIVE_INFINITY;
const isText: Check = (value) => typeof value === "string";
/** RFC 9110 §5.5: a text that can be sent in a header field. */
const isFieldValue: Check = (value) => isText(value) && /^[\t\x20-\x7e\x80-\xff]*$/.test(value as string);
/** It is sent as UTF-8 (HTML §9.2.4). */
const isEventId: Check = (value) => isText(value) && !hasControls(value as string);
const isTexts: Check = (value) => typeof value === "object" && value !== null && Object.values(value).every(isText);
const isFlag: Check = (value) => typeof value === "boolean";
const orNull =
  (check: Check): Check =>
  (value) =>
    value === null || check(value);
const orNothing =
  (check: Check): Check =>
  (value) =>
    value === undefined || check(value);

/** So many dependencies of one entry are taken in. */
const mostParts = 10_000;
const isPart: Check = (value) => Array.isArray(value) && isText(value[0]) && value.length <= 2;
const isMadeFor: Check = (value) => {
  const { source, varies } = (value ?? {}) as Record<string, unknown>;
  return isText(source) && isTexts(varies);
};

/** The test of each member; `params` are tested where their key is made. */
const members: { readonly [name in Exclude<keyof StoredEntry, "params" | "kind" | "value">]-?: Check } = {
  source: isText,
  age: isLength,
  maxAge: orNull(isLength),
  staleWhileRevalidate: orNull(isLength),
  staleIfError: orNull(isLength),
  mustRevalidate: orNothing(isFlag),
  immutable: orNothing(isFlag),
  etag: orNothing(isFieldValue),
  lastModified: orNothing(isFieldValue),
  lastEventId: orNothing(isEventId),
  groups: orNothing((value) => Array.isArray(value) && value.length <= mostGroups && value.every(isText)),
  varies: orNothing(isTexts),
  noStore: orNothing(isFlag),
  shownAt: orNothing(isLength),
  parts: orNothing((value) => Array.isArray(value) && value.length <= mostParts && value.every(isPart)),
  madeFor: orNothing((value) => Array.isArray(value) && value.length <= mostParts && value.every(isMadeFor)),
};

const checks = Object.entries(members);

function hasControls(text: string): boolean {
  return Array.from(text).some((letter) => letter < " " || letter === "\x7f");
}

/** The entry's own members, if each is of the right form. No prototype comes with them, and none is ever set. */
export function wellFormed(entry: unknown): StoredEntry | undefined {
  try {
    if (typeof entry !== "object" || entry === null || Array.isArray(entry)) return undefined;
    const own: Record<string, unknown> = { ...entry };
    const held = own.kind === (own.value === undefined ? "missing" : "value");
    return held && checks.every(([name, check]) => check(own[name])) ? (own as unknown as StoredEntry) : undefined;
  } catch {
    return undefined; // a getter or a proxy that throws
  }
}
