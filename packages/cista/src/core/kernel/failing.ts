/** Who hears of failures: `cache.onFailure`. Rule E1. */
import type { FailedAction } from "../api/contract.js";
import { asFailure, type Failure } from "../api/failure.js";
import { guarded, report } from "../lib/guarded.js";
import { afterChange } from "../state/batches.js";
import type { Core } from "../state/core.js";

/** Tells all who listen for failures, once the change that it belongs to is complete. */
export function tellFailure(core: Core, failure: Failure, action: FailedAction): void {
  for (const callback of core.failureListeners) afterChange(core, () => guarded(() => callback(failure, action)));
}

/** Runs a callback of a program's definition. An error of it is reported as uncaught, and told to the listeners for failures. */
export function runCallback(core: Core, action: FailedAction, callback: () => void): void {
  try {
    callback();
  } catch (thrown) {
    report(thrown);
    tellFailure(core, asFailure(thrown), action);
  }
}
