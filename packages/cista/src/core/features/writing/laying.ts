/** A write's layers without its sending: for a write that is sent later, or by another tab. Rules O2, O4. */
import type { Cache } from "../../api/contract.js";
import { CistaError, preview } from "../../api/failure.js";
import type { WriteKeeper } from "../../api/seams.js";
import type { RunOptions, Write } from "../../api/write-contract.js";
import { requestIfWatched } from "../../kernel/asking.js";
import { resumeAfterWrites } from "../../kernel/watching.js";
import { batch } from "../../state/batches.js";
import { type Core, coreOf, type RunWith, runKey } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import { markInvalidated } from "../changing/changing.js";
import { entriesPerhaps } from "./invalidated.js";
import type { WriteLayers } from "./layers.js";
import { addLayers } from "./write.js";

/** Layers that lie over entries until the end of their write is known. */
export interface LaidWrite {
  /** Sends it now, with these layers. Rejects with `sendLater` where it was aborted with that: they stay. */
  send(options: RunOptions): Promise<unknown>;
  /** Lies over all others from now on: one that was run before it has been heard of later. */
  raise(): void;
  /** The write has ended in another page. The layers stay until the next answer (rule W2). @param isTold another tab tells which entries changed */
  ended(isTold: boolean): void;
  /** Taken back at once. @param mayHaveWorked the entries are asked about */
  refused(mayHaveWorked: boolean): void;
}

/** @param idempotencyKey of the run */
export function layWrite(cache: Cache, write: Write<any, any>, input: unknown, idempotencyKey: string): LaidWrite {
  const core = coreOf(cache);
  const layers = addLayers(core, write, input, idempotencyKey);
  const named = () => [...layers.entries, ...entriesPerhaps(core, write, input)];
  return {
    send(options) {
      const runWith = (write as { readonly [runKey]?: RunWith })[runKey];
      if (runWith) return runWith(core, write, input, options, layers);
      throw new CistaError(
        "not-a-write",
        DEVELOPMENT && `A write was expected, as write() makes it, but it is ${preview(write)}.`,
      );
    },
    raise: () => batch(core, () => layers.raise()),
    ended: (isTold) => settle(core, layers, () => leaveToNextAnswer(core, layers, isTold, named)),
    refused: (mayHaveWorked) => settle(core, layers, () => takeBack(layers, mayHaveWorked ? named() : undefined)),
  };
}

/** Gives kept writes to a keeper from now on. Returns its own end. */
export function setKeeper(cache: Cache, keeper: WriteKeeper): () => void {
  const core = coreOf(cache);
  core.keeper = keeper;
  return () => {
    if (core.keeper === keeper) core.keeper = undefined;
  };
}

function settle(core: Core, layers: WriteLayers, change: () => void): void {
  if (core.disposed || layers.settledAt > 0) return;
  batch(core, () => {
    layers.settle(++core.version);
    change();
    for (const entry of layers.entries) if (entry.activity?.layers?.pendingWrites === 0) resumeAfterWrites(entry);
  });
}

function leaveToNextAnswer(core: Core, layers: WriteLayers, isTold: boolean, named: () => Entry[]): void {
  // Where the tabs are joined, the tab that has sent it tells which entries are invalidated.
  const isToldAll = isTold && core.changeListeners.length > 0;
  const entries = isToldAll ? [...layers.entries] : named();
  if (!isToldAll) for (const entry of entries) markInvalidated(entry, layers.name);
  for (const entry of layers.entries) {
    if (entry.watchers === 0 && !entry.request) layers.removeFrom(entry, "lifted: settled");
  }
  for (const entry of entries) if (entry.isInvalidated) requestIfWatched(entry);
}

/** @param named the entries that it may have changed; undefined: it has changed nothing */
function takeBack(layers: WriteLayers, named: Entry[] | undefined): void {
  const invalidated = (named ?? []).filter((entry) => markInvalidated(entry, layers.name));
  for (const entry of layers.entries) layers.removeFrom(entry, "lifted: taken back");
  for (const entry of invalidated) requestIfWatched(entry);
}
