/** What becomes of held values, and of kept writes, when another user asks than before. Rules F9, O9. */
import type { Cache } from "../api/contract.js";
import { guarded } from "../lib/guarded.js";
import { batch, markDirty } from "../state/batches.js";
import { type Core, coreOf } from "../state/core.js";

/** Values that are not for whoever asks now are shown no longer. Where they are watched they are asked for at once (see `refresh`). */
export function requestForNewUser(core: Core): void {
  if (core.disposed) return;
  for (const listener of core.userListeners) guarded(listener); // before the requests below: joined tabs forget first
  batch(core, () => {
    for (const entry of core.shelves.byKey.values()) {
      if (entry.held === "none" || entry.fits) continue;
      markDirty(entry);
      entry.links?.tellDependents();
    }
  });
}

/** Calls back when another user asks than before. Returns its own end. */
export function onUserChanged(cache: Cache, listener: () => void): () => void {
  const { userListeners } = coreOf(cache);
  userListeners.add(listener);
  return () => void userListeners.delete(listener);
}
