/** The effects of a change of the user on held values and kept writes. Rules F9, O9. */
import type { Cache } from "../api/contract.js";
import type { Source } from "../api/source-contract.js";
import { guarded } from "../lib/guarded.js";
import { batch, markDirty } from "../state/batches.js";
import { type Core, coreOf } from "../state/core.js";
import type { EntryRequest } from "../state/entry-request.js";
import { forNobody } from "../state/extra.js";
import type { SentLayers } from "../state/layers.js";
import { composingOf, type MadeFor } from "../state/links.js";

/**
 * Another user asks. Values and failures that are not for that user are shown no longer. Where they are watched they are requested
 * at once (see `refresh`).
 * @param hasLeft whether a user was signed in before
 * @param by the layers of the write, or the request of an entry, that told of the new user: it is that user's
 */
export function changeUser(core: Core, hasLeft: boolean, by?: SentLayers | EntryRequest): void {
  if (core.disposed) return;
  core.usersCame++;
  if (hasLeft) {
    core.usersLeft++;
    forgetVisitor(core);
  }
  for (const listener of core.userListeners) guarded(listener); // before the requests below: joined tabs forget first
  batch(core, () => {
    for (const entry of core.shelves.byKey.values()) {
      const { activity, request } = entry;
      // A composite fails by its dependencies: these are requested anew.
      if (request && request !== by && !composingOf(entry.shelf.source)) request.isFormerUsers = true;
      if (hasLeft) activity?.layers?.removeOfOtherUser(by);
      // While a value is on its way, a stand-in or a value that a binding carries over is shown: both were the former user's.
      if (entry.reading?.state === "loading") {
        entry.reading = undefined;
        if (activity) activity.standIn = undefined;
        markDirty(entry);
      }
      if (entry.isHeld) continue;
      if (activity) activity.failure = undefined;
      markDirty(entry);
      if (entry.held !== "none") entry.links?.tellDependents();
    }
  });
}

/** Drops entries that came with a page for the user who opened it, and that are not known to be for others too. */
function forgetVisitor({ pendingRestores, shelves }: Core): void {
  pendingRestores?.forgetVisitor();
  for (const { activity, extra, links } of shelves.byKey.values()) {
    if (activity) activity.isBrought = false; // it came for the user who has left, as far as nobody knows better
    for (const varies of [extra?.varies, ...(links?.madeFor ?? []).map((part) => part.varies)]) {
      for (const field in varies) if (varies[field] === "*") (varies as Record<string, string>)[field] = forNobody;
    }
  }
}

/** Rule F9: a value that a program puts is for the present user. In a partition all values are one user's. */
export function notesNow(
  core: Core,
  source: Source<any, any> | undefined,
  params: unknown,
  before?: MadeFor["varies"],
): MadeFor["varies"] | undefined {
  const { partition, context } = core.options;
  return partition === undefined ? source?.definition.varies?.(params, context, before) : undefined;
}

/** Another number after each sign-out, and whenever another user asks than before. */
export function userCountIn(cache: Cache): number {
  const { usersCame, usersLeft } = coreOf(cache);
  return usersCame + usersLeft;
}

/** Calls back when another user asks than before. Returns its own end. */
export function onUserChanged(cache: Cache, listener: () => void): () => void {
  const { userListeners } = coreOf(cache);
  userListeners.add(listener);
  return () => void userListeners.delete(listener);
}
