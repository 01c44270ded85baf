/** Writes: how one is defined, and how a run of it begins. Rules W1, W4. */

import type { FailedAction, Selector } from "../../api/contract.js";
import { milliseconds } from "../../api/duration.js";
import { CistaError, preview } from "../../api/failure.js";
import { retryPlan } from "../../api/settings.js";
import type { LayerEditor, Write, WriteDefinition } from "../../api/write-contract.js";
import { runCallback } from "../../kernel/failing.js";
import { getOrCreateEntry } from "../../kernel/keeping.js";
import { shareKeeping } from "../../lib/share.js";
import { batch } from "../../state/batches.js";
import { assertNotDisposed, type Core, type RunWith, runKey } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";
import { selected } from "../changing/selector.js";
import { addLayer, WriteLayers } from "./layers.js";
import { runWrite } from "./sending.js";

/**
 * Defines a kind of change: how it is sent, its optimistic values, and the entries that it invalidates. Starts nothing.
 * @example
 * const rename = write<{ id: string; name: string }, void>({
 *   name: "rename",
 *   send: async ({ id, name }) => database.rename(id, name),
 *   optimistic: ({ id, name }, edit) => edit.at(hut, { id }).patch((now) => ({ ...now, name })),
 * });
 * @throws CistaError code "invalid-write": a name or `send` that cannot be
 */
export function write<I = void, R = unknown>(definition: WriteDefinition<I, R>): Write<I, R> {
  const { name, send } = definition;
  if (typeof name !== "string" || name === "") {
    throw new CistaError(
      "invalid-write",
      DEVELOPMENT && `A write's name is text, such as "book", but it is ${preview(name)}.`,
    );
  }
  if (typeof send !== "function") {
    throw new CistaError(
      "invalid-write",
      DEVELOPMENT && `The write "${name}" needs a send function, but send is ${preview(send)}.`,
    );
  }
  retryPlan(definition.retry ?? false); // refuses what cannot be where it was written
  milliseconds(definition.timeout ?? 0, "timeout");
  return Object.freeze({ name, definition: Object.freeze({ ...definition }), [runKey]: beginRun });
}

/** The layers of one run, at once: its changes are shown in the same frame, whatever its sending waits for. */
export function addLayers(core: Core, write: Write<any, any>, input: unknown, idempotencyKey: string): WriteLayers {
  const { name, definition } = write;
  const layers = new WriteLayers(write, core);
  let isOver = false;
  const edit: LayerEditor = {
    at: (source, ...[params]) => ({
      patch: (change) => {
        refuseLate(name, isOver);
        addLayer(getOrCreateEntry(core, source, params), layers, change);
      },
    }),
    each: (selector) => ({
      patch: (change: (value: any, params: any) => unknown) => {
        refuseLate(name, isOver);
        for (const entry of selected(core, selector as Selector)) {
          addLayerWhereNeeded(entry, layers, change);
        }
      },
    }),
  };
  const action = { write: name, input };
  const lay = () => definition.optimistic?.(input, edit, { idempotencyKey });
  batch(core, () => runCallback(core, action, () => reportLater(core, action, lay())));
  isOver = true;
  return layers;
}

/** @throws CistaError code "late-layer": a layer that is laid when the write has ended would never be removed */
function refuseLate(name: string, isOver: boolean): void {
  if (!isOver) return;
  throw new CistaError(
    "late-layer",
    DEVELOPMENT &&
      `optimistic of the write "${name}" lays a layer after it has returned. It has to lay all of them at once: it cannot be async.`,
  );
}

/** The error for an async `optimistic`, which its type forbids. */
function reportLater(core: Core, action: FailedAction, returned: unknown): void {
  if (!(returned instanceof Promise)) return;
  returned.catch((thrown) =>
    runCallback(core, action, () => {
      throw thrown;
    }),
  );
}

/** Where a change leaves a value as it is, and no other is on its way, there is nothing for a write to lie on. */
function addLayerWhereNeeded(entry: Entry, layers: WriteLayers, change: (value: any, params: any) => unknown): void {
  const { held, request, params, shownValue } = entry;
  const apply = (value: unknown) => change(value, params);
  const isConcerned = () => request !== undefined || shareKeeping(shownValue, apply(shownValue)) !== shownValue;
  if (held === "value" && isConcerned()) addLayer(entry, layers, apply);
}

/** Begins one run: lays the layers of the write, then sends it. */
const beginRun: RunWith = (core, write, input, given, laid): Promise<unknown> => {
  if (given.signal?.aborted) return Promise.reject(given.signal.reason);
  const idempotencyKey = given.idempotencyKey ?? core.clock.uniqueText();
  const options = { ...given, idempotencyKey };
  const layers = (laid as WriteLayers | undefined) ?? addLayers(core, write, input, idempotencyKey);
  try {
    assertNotDisposed(core); // by `optimistic`, perhaps
    options.signal?.throwIfAborted();
    return runWrite(core, write, input, options, layers);
  } catch (thrown) {
    if (!core.disposed) {
      batch(core, () => {
        for (const entry of layers.entries) layers.removeFrom(entry, "lifted: it could not be sent");
      });
    }
    throw thrown;
  }
};
