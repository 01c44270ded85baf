// What a random graph of composites is, and what may happen to it (see graph.ts).

export const leaves = 4;
/** Whether values live for ever, or have no lifetime, and then are others with each load. */
export type Kind = "lasting" | "short-lived" | "restless";

/** A composite over others before it, or over leaves. */
export interface Node {
  /** Below `leaves`: a leaf. Else the node of that place, which stands before this one. */
  readonly dependencies: readonly number[];
  readonly together: boolean;
  /** It comes out the same for many values of its dependencies. */
  readonly coarse: boolean;
  /** Its load goes on for a while after it has read its dependencies. */
  readonly slow: boolean;
}
/** What is special about the first leaf: neither it nor anything made of it is kept, or shown without being revalidated. */
export type First = "usual" | "no-store" | "must-revalidate";
/** What tells of a change: the leaf's source, the group that its answer names, the group of its definition, or a value that is put. */
export type How = "invalidate" | "named group" | "many groups" | "own group" | "put";
/** What happens at once after a change, before somebody reads. */
export type Act = "invalidate" | "put" | "delete" | "read leaf" | "watch leaf" | "read between" | "begin" | "pass";
export type Step =
  | { do: "change"; leaf: number; by: number; how: How }
  | { do: "calm"; leaf: number; other: number; by: number; how: How }
  | { do: "midway"; node: number; leaf: number; by: number; how: How; restores: boolean }
  | { do: "broken"; node: number; leaf: number; other: number }
  | { do: "recover"; leaf: number; by: number; how: How }
  | { do: "outdate"; node: number; leaf: number; between: number; acts: readonly Act[] }
  | { do: "watch"; node: number }
  | { do: "read"; node: number }
  | { do: "fail"; leaf: number }
  | { do: "delete"; leaf: number }
  | { do: "react"; leaf: number }
  | { do: "write"; leaf: number; by: number }
  | { do: "events"; count: number }
  | { do: "pass"; ms: number };
