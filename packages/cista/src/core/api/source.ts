/** How a source is defined. */
import type { OutputOf, StandardSchema } from "./check.js";
import type { LoadContext, Loaded, Source, SourceDefinition } from "./contract.js";
import { CistaError, preview } from "./failure.js";
import { settingsOf } from "./settings.js";

/**
 * Says once where a kind of value comes from and how long it may be used. Starts nothing.
 * @throws CistaError code "source": a name or `load` that cannot be; code "duration": a length of time that cannot be
 */
export function source<P, S extends StandardSchema<any, any>>(
  definition: Omit<SourceDefinition<P, unknown, OutputOf<S>>, "check"> & {
    check: S;
    load(params: P, context: LoadContext): unknown;
  },
): Source<P, OutputOf<S>>;
export function source<P = void, R = unknown>(definition: SourceDefinition<P, R>): Source<P, Loaded<R>>;
export function source(definition: SourceDefinition<any, any, any>): Source<any, any> {
  const { name, load } = definition;
  if (typeof name !== "string" || name === "" || /\s/.test(name)) {
    throw new CistaError(
      "source",
      DEVELOPMENT && `A source's name is text without white space, such as "hut", but it is ${preview(name)}.`,
    );
  }
  if (typeof load !== "function") {
    throw new CistaError(
      "source",
      DEVELOPMENT && `The source "${name}" needs a load function, but load is ${preview(load)}.`,
    );
  }
  settingsOf(definition, {}); // refuses what cannot be where it was written
  return Object.freeze({ name, definition: Object.freeze({ ...definition }) });
}
