import type { Members } from "../core/doors/readings.js";

const all: Record<keyof Members, true> = {
  key: true,
  state: true,
  value: true,
  provisional: true,
  fresh: true,
  asOf: true,
  failure: true,
  pendingWrites: true,
  request: true,
};

/** The members of a reading that are its own: what a copy of it has. */
export const ownMembers: readonly (keyof Members)[] = Object.keys(all) as (keyof Members)[];

/** These, and what it can do. */
export type Member = keyof Members | "revalidate";
export const members: readonly Member[] = [...ownMembers, "revalidate"];
