/** The messages of joined tabs, and the check of each member of a heard one (rule S1). See docs/tabs-protocol.md. */

import { isToldKind } from "../../core/doors/answers.js";
import { detailsOf, type PlainSelector, type StoredEntry, wellFormed } from "../../core/doors/sharing.js";
import { omitUndefined } from "../../core/doors/tools.js";
import { type Answer, answer, type FailureKind, missing, unchanged } from "../../core/index.js";

/** Of the messages' form. Tabs of another one are on another channel. */
export const formVersion = 1;

/** An entry, as one tab has learned it. */
export interface News {
  readonly key: string;
  /** The moment of its value: when the request began that brought it. */
  readonly at: number;
  /** The tab that has learned it. */
  readonly by: string;
  readonly entry: StoredEntry;
  /** The moment when the entry's age was taken. */
  readonly takenAt: number;
  /** It is still as it was at that moment: the value is left out. */
  readonly as?: { readonly at: number; readonly by: string };
  /** Of a stream that is open: when it was opened. */
  readonly opened?: number;
}

export interface ToldFailure {
  readonly kind: FailureKind;
  readonly message: string;
  readonly retryable: boolean;
  readonly status?: number;
  readonly retryAfter?: number;
}

export type Body =
  /** A tab is new, or has come back. */
  | { readonly kind: "hello" }
  /** The values, for those that said hello. */
  | {
      readonly kind: "here";
      readonly to: readonly string[];
      readonly at: number;
      readonly news: readonly News[];
      /** The tabs that the one who tells has heard of. */
      readonly others: readonly string[];
    }
  | { readonly kind: "bye" }
  | { readonly kind: "news"; readonly news: readonly News[] }
  /** The entry of this key is each tab's own: it is not to be stored, is a composite, or cannot be cloned. */
  | { readonly kind: "own"; readonly key: string }
  | {
      readonly kind: "failed";
      readonly key: string;
      readonly at: number;
      readonly attempt: number;
      readonly failure: ToldFailure;
      /** For whom it was asked (rule F9); left out where every user is answered alike. */
      readonly varies?: NonNullable<StoredEntry["varies"]>;
    }
  | {
      readonly kind: "change";
      readonly change: "invalidate" | "delete";
      readonly at: number;
      readonly selectors: readonly PlainSelector[];
      readonly keys: readonly string[];
    }
  /** A user has signed out: the values that this tab told before are no longer valid. */
  | { readonly kind: "signed-out"; readonly at: number }
  /** To the holder of this key's lock: tell the value, if it is of that moment or later; else pass the lock on. */
  | { readonly kind: "wants"; readonly key: string; readonly since: number }
  /** To the holder of this key's lock: is it still there? */
  | { readonly kind: "asks"; readonly key: string }
  | { readonly kind: "alive"; readonly key: string };

export type Message = Body & { readonly from: string };

/** So many entries are told to a newcomer, and in any message of news. */
export const mostNews = 200;
/** So many keys, selectors and tabs are told in one message: a longer list is not looked into. */
export const mostKeys = 10_000;
export const mostSelectors = 100;
export const mostOthers = 1000;
/** So much of a failure's message is told. */
const longestMessage = 1000;

type Check = (value: unknown) => boolean;
const isText: Check = (value) => typeof value === "string";
const isId: Check = (value) => isText(value) && value !== "" && (value as string).length <= 40;
/** Milliseconds, to the thousandth. */
const isMoment: Check = (value) => typeof value === "number" && value >= 0 && value < 4e12;
const isList = (value: unknown, most: number, check: Check): boolean =>
  Array.isArray(value) && value.length <= most && value.every(check);
const isObject: Check = (value) => typeof value === "object" && value !== null && !Array.isArray(value);

/**
 * A message, if it is one: its own members, each as it has to be.
 * @param latest no moment is later than that: such a one would be later than all that happens from then on
 */
export function wellFormedMessage(data: unknown, latest: number): Message | undefined {
  const isPast: Check = (value) => isMoment(value) && (value as number) <= latest;
  if (!isObject(data)) return undefined;
  const { v, from, kind, key, to, at, since, others, attempt, failure, varies, change, selectors, keys, news } =
    data as {
      [member: string]: any;
      kind?: Body["kind"];
    };
  if (v !== formVersion || !isId(from)) return undefined;
  switch (kind) {
    case "hello":
    case "bye":
      return { from, kind };
    case "wants":
      return isText(key) && isPast(since) ? { from, kind, key, since } : undefined;
    case "own":
    case "asks":
    case "alive":
      return isText(key) ? { from, kind, key } : undefined;
    case "signed-out":
      return isMoment(at) ? { from, kind, at: Math.min(at, latest) } : undefined; // it ends what was told, in any case
    case "here": {
      const isHere = isList(to, mostOthers, isId) && isPast(at) && isList(others, mostOthers, isId);
      return isHere && isList(news, mostNews, isObject)
        ? { from, kind, to, at, news: newsIn(news, isPast), others }
        : undefined;
    }
    case "news":
      return isList(news, mostNews, isObject) ? { from, kind, news: newsIn(news, isPast) } : undefined;
    case "failed": {
      const told = wellFormedFailure(failure);
      if (!told || !isText(key) || !isPast(at) || !Number.isSafeInteger(attempt)) return undefined;
      if (varies === undefined) return { from, kind, key, at, attempt, failure: told };
      const areNotes = isObject(varies) && isList(Object.values(varies), mostKeys, isText);
      return areNotes ? { from, kind, key, at, attempt, failure: told, varies: { ...varies } } : undefined;
    }
    case "change": {
      const isChange = (change === "invalidate" || change === "delete") && isPast(at);
      const isGood = isChange && isList(keys, mostKeys, isText) && isList(selectors, mostSelectors, () => true);
      return isGood ? { from, kind, change, at, keys, selectors: selectors.filter(isSelector) } : undefined;
    }
    default:
      void (kind satisfies undefined); // a new kind needs a case of its own
      return undefined;
  }
}

function newsIn(list: readonly unknown[], isPast: Check): News[] {
  return list.flatMap((news) => wellFormedNews(news, isPast) ?? []);
}

function wellFormedNews(news: unknown, isPast: Check): News | undefined {
  const { key, at, by, entry, takenAt, as, opened } = news as Record<string, any>;
  const told = wellFormed(entry);
  const isGood = isText(key) && isPast(at) && isId(by) && isPast(takenAt) && told && sourceIn(key) === told.source;
  if (!isGood || told.noStore || (opened !== undefined && !isPast(opened))) return undefined;
  if (as !== undefined && !(isObject(as) && isPast(as.at) && isText(as.by))) return undefined;
  const same = as === undefined ? undefined : { at: as.at, by: as.by };
  return omitUndefined({ key, at, by, entry: told, takenAt, as: same, opened }) as News;
}

function sourceIn(key: string): string {
  const space = key.indexOf(" ");
  return space < 0 ? key : key.slice(0, space);
}

function wellFormedFailure(failure: unknown): ToldFailure | undefined {
  if (!isObject(failure)) return undefined;
  const { kind, message, retryable, status, retryAfter } = failure as Record<string, any>;
  const isGood = isToldKind(kind, "byTabs") && isText(message) && typeof retryable === "boolean";
  if (!isGood || (status !== undefined && !Number.isSafeInteger(status))) return undefined;
  if (retryAfter !== undefined && !isMoment(retryAfter)) return undefined;
  const text = (message as string).slice(0, longestMessage);
  return omitUndefined({ kind, message: text, retryable, status, retryAfter }) as ToldFailure;
}

function isSelector(selector: unknown): selector is PlainSelector {
  if (selector === "all") return true;
  if (!isObject(selector)) return false;
  const { key, group, of, origin = "" } = selector as Record<string, unknown>;
  return [key, group, of].filter(isText).length === 1 && isText(origin);
}

/** The value of another tab as a load's answer. @param now the moment */
export function answerIn({ entry, takenAt, by, as }: News, now: number): Answer<unknown> {
  const details = { ...detailsOf(entry), age: entry.age + Math.max(0, now - takenAt), from: by };
  if (as) return unchanged(details);
  return entry.kind === "value" ? answer(entry.value, details) : missing(details);
}
