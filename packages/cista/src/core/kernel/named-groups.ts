/** The groups of entries that hold nothing yet, and changes by group while requests are under way. Rules R2, F7; RFC 9875. */
import type { GroupSelector } from "../api/contract.js";
import { type Core, nowOf } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import type { EntryRequest } from "../state/entry-request.js";

/** The entries of a group: by what they hold, or by their definition alone while they hold nothing. */
export function entriesInGroup(core: Core, selector: GroupSelector): Entry[] {
  const found = new Set(core.groups.with(selector.group));
  for (const asked of [core.underWay, core.watched]) {
    for (const entry of asked) if (entry.held === "none") found.add(entry);
  }
  return [...found].filter((entry) => isInGroup(groupsOf(entry), selector));
}

function groupsOf({ held, groups, shelf, params }: Entry): readonly string[] {
  return held === "none" && groups.length === 0 ? shelf.groupsOf(params) : groups;
}

/** @param groups those of an entry: its URL is one */
export function isInGroup(groups: readonly string[], { group, origin }: GroupSelector): boolean {
  return groups.includes(group) && (origin === undefined || groups.some((each) => each.startsWith(`${origin}/`)));
}

/** So many changes are remembered: then each request under way counts as out of date. */
const mostChanges = 100;

/** An answer under way may name the groups that a program changes now. @param age how long ago, in milliseconds */
export function noteGroupChange(core: Core, selector: GroupSelector, age: number): void {
  const { groupChanges, underWay } = core;
  if (underWay.size === 0) return;
  core.invalidatedAt = ++core.version;
  const change = { version: core.version, at: nowOf(core) - age };
  core.groupChanges = groupChanges.length < mostChanges ? [...groupChanges, { ...change, selector }] : [change];
}

/**
 * The version of the last change that the request under way may not have seen: of the entry itself, of any group, or, where it is made
 * of others, any invalidation. Until its answer is there nobody knows whether its groups, or its dependencies, were among these.
 */
export function lastChangeFor({ invalidatedAt, links, shelf }: Entry): number {
  const { core } = shelf;
  return Math.max(invalidatedAt, links ? core.invalidatedAt : (core.groupChanges.at(-1)?.version ?? 0));
}

/** An answer has come, and with it the groups of its entry: a change of these since the try began has invalidated it. */
export function invalidateIfChanged(entry: Entry, request: EntryRequest): void {
  const { groups } = entry;
  // By time for another try and for a change that another tab tells of; by version in one go.
  const since = entry.shelf.core.groupChanges.findLast(
    ({ version, at, selector }) =>
      at >= request.tryStartedAt && version > request.startVersion && (!selector || isInGroup(groups, selector)),
  );
  if (since) entry.invalidatedAt = Math.max(entry.invalidatedAt, since.version);
}
