/** Forgetting all that belongs to the present user. Rule S4. */
import { Failure } from "../api/failure.js";
import { batch, scheduleRelease } from "../state/batches.js";
import type { Core } from "../state/core.js";
import type { Entry } from "../state/entry.js";
import { abandonRequest } from "./asking.js";
import { changeHeld, evict } from "./keeping.js";

const note = "somebody signed out";

/**
 * Forgets all that belongs to the present user (rule S4): first nothing asks any more, then all that is under
 * way ends, then nothing is held. Resolves when those who listen for it (stores, for example) have done the same.
 */
export async function signOut(core: Core): Promise<void> {
  core.usersLeft++;
  batch(core, () => {
    const entries = [...core.shelves.byKey.values()];
    for (const { activity } of entries) if (activity) activity.signedOut = true;
    core.outbox?.abortAll(new Failure("aborted", "The write was aborted: somebody signed out."));
    for (const entry of [...core.underWay]) abandonRequest(entry, note); // also what is read without being kept
    core.pendingRestores?.clear();
    for (const entry of entries) forgetAll(entry);
  });
  core.journal?.noteOther("sign-out", {});
  await Promise.all([...core.signOuts].map(async (callback) => callback()));
}

function forgetAll(entry: Entry): void {
  if (entry.isRemoved) return;
  entry.activity?.layers?.removeAll(`lifted: ${note}`);
  changeHeld(entry, () => entry.forget());
  entry.links?.dropDependencies();
  entry.links?.tellDependents();
  if (entry.isIdle) {
    evict(entry, "deleted");
    return;
  }
  scheduleRelease(entry);
}
