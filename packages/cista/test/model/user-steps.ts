import fc from "fast-check";
import type { Change } from "./accounts.js";

/** The steps of the random programs in which the user changes. */

export const kinds = [
  "me",
  "row",
  "refused",
  "dear",
  "open",
  "whole",
  "above",
  "news",
  "brought",
  "sum",
  "list",
  "mixed",
] as const;
export type Kind = (typeof kinds)[number];
export type Step =
  | { do: "watch"; kind: Kind; id: number }
  | { do: "unwatch"; nth: number }
  | { do: "read"; kind: Kind; id: number }
  | { do: "put"; id: number }
  | { do: "invalidate"; kind: Kind; id: number }
  /** Without time for anybody to notice. */
  | { do: "change"; how: Change; person: number }
  /** At rest, and then a first request. */
  | { do: "calm"; how: Change; person: number; by: "me" | "refused" | "dear" }
  /** Somebody else with each answer, so many times; one more reads at the turn `late`. */
  | { do: "turns"; times: number; late: number; isWatched: boolean }
  /** The user changes in the middle of a request for what is watched. */
  | {
      do: "meanwhile";
      kind: Kind;
      id: number;
      how: Change;
      person: number;
      after: number;
      back: number;
      isInvalidated: boolean;
      /** Somebody reads something at once after the change, by which it is known. */
      isAsked: boolean;
    }
  /** … and in the middle of one for a list's second page, while the list itself is requested or not. */
  | { do: "more"; kind: "list" | "mixed"; how: Change; person: number; after: number; again: number; asks: Asks }
  /** What is watched fails, again and again, and the user changes meanwhile. */
  | { do: "fail"; how: Change; person: number; after: number; isDeleted: boolean }
  /** A component carries a value over to other params, and the user changes. */
  | { do: "carry"; how: Change; person: number; after: number }
  /** A write tells of the new user; that user leaves before its answer, or not, and is known to have left, or not. */
  | { do: "write"; id: number; how: Change; person: number; after: number; leaves: "no" | "yes" | "known" }
  /** Somebody else comes, is known or not, looks at something, and goes. */
  | { do: "visit"; kind: Kind; id: number; person: number; isKnown: boolean }
  | { do: "pass"; ms: number };

/** Whether the list itself is requested too: before the user changes, or after that. */
export type Asks = "no" | "before" | "after";

/** Of these the page from the server has brought a value. */
export function isBrought(kind: Kind): boolean {
  return kind === "brought" || kind === "sum";
}

/** Composites of sources that are one user's. */
export function isOfOthers(kind: Kind): boolean {
  return kind === "whole" || kind === "above" || kind === "dear";
}

export function isList(kind: Kind): boolean {
  return kind === "list" || kind === "mixed";
}

const id = fc.nat(2);
const person = fc.nat(3);
const kind = fc.constantFrom<Kind>("me", ...kinds);
const how = fc.constantFrom<Change>("person", "person", "nobody", "token", "renewed", "back");
const after = fc.oneof(fc.nat(3), fc.nat(30));
const of = <K extends Step["do"], T extends object>(
  weight: number,
  what: K,
  rest: { [M in keyof T]: fc.Arbitrary<T[M]> },
) => ({
  weight,
  arbitrary: fc.record({ do: fc.constant(what), ...rest }) as unknown as fc.Arbitrary<Step>,
});

export const step: fc.Arbitrary<Step> = fc.oneof(
  of(4, "watch", { kind, id }),
  of(1, "unwatch", { nth: fc.nat(5) }),
  of(3, "read", { kind, id }),
  of(2, "put", { id }),
  of(1, "invalidate", { kind, id }),
  of(3, "change", { how, person }),
  of(4, "calm", {
    how,
    person,
    by: fc.constantFrom("me" as const, "me" as const, "refused" as const, "dear" as const),
  }),
  of(1, "turns", {
    times: fc.integer({ min: 1, max: 7 }),
    late: fc.integer({ min: 1, max: 7 }),
    isWatched: fc.boolean(),
  }),
  of(2, "meanwhile", {
    ...{ kind, id, how, person, after },
    back: fc.oneof(fc.constant(0), fc.nat(15)),
    isInvalidated: fc.boolean(),
    isAsked: fc.boolean(),
  }),
  of(2, "more", {
    kind: fc.constantFrom("list" as const, "mixed" as const),
    ...{ how, person, after, again: fc.nat(20) },
    asks: fc.constantFrom<Asks>("no", "before", "after"),
  }),
  of(1, "carry", { how, person, after }),
  of(2, "fail", { how, person, after, isDeleted: fc.boolean() }),
  of(2, "write", {
    id,
    how,
    person,
    after: fc.nat(8),
    leaves: fc.constantFrom("no" as const, "yes" as const, "known" as const),
  }),
  of(1, "visit", { kind, id, person, isKnown: fc.boolean() }),
  of(3, "pass", { ms: fc.constantFrom(1, 3, 5, 10, 11, 40) }),
);
