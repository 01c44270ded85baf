/** How a source is defined. */
import type { Answer } from "./answer.js";
import type { OutputOf, StandardSchema } from "./check.js";
import { CistaError, preview } from "./failure.js";
import { settingsOf } from "./settings.js";
import type { Known, LoadContext, Loaded, SaysNoParams, Source, SourceDefinition } from "./source-contract.js";

/**
 * Says once where a kind of value comes from and how long it may be used. Starts nothing.
 * @example
 * export const noon = source({ name: "noon", maxAge: "1h", load: async (place: string) => almanac(place) });
 * const tide = source<{ place: string }, Tide>({ name: "tide", load: async ({ place }) => tideOf(place) }); // both types written out
 * @throws CistaError code "invalid-source": a name or `load` that cannot be; code "invalid-duration": a length of time that cannot be
 */
export function source<P = void, S extends StandardSchema<any, any> = StandardSchema<any, any>>(
  definition: Omit<SourceDefinition<P, unknown, Known<OutputOf<S>>>, "check"> & {
    check: S;
    load(params: P, context: LoadContext): unknown;
  } & SaysNoParams<P>,
): Source<P, Known<OutputOf<S>>>;
export function source<P = void, T = never>(
  definition: SourceDefinition<P, Promise<NoInfer<Loaded<T> | Answer<Loaded<T>>>>, Loaded<T>> & SaysNoParams<P>,
): Source<P, Loaded<T>>;
export function source<P = void, T = never>(
  definition: SourceDefinition<P, AsyncIterable<NoInfer<Loaded<T> | Answer<Loaded<T>>>>, Loaded<T>> & SaysNoParams<P>,
): Source<P, Loaded<T>>;
export function source<P = void, R = unknown>(
  definition: SourceDefinition<P, R, Known<Loaded<R>>> & SaysNoParams<P>,
): Source<P, Known<Loaded<R>>>;
export function source(definition: SourceDefinition<any, any, any>): Source<any, any> {
  return define(definition, {});
}

/** @param brings members that only sources of its kind need */
export function define(definition: SourceDefinition<any, any, any>, brings: object): Source<any, any> {
  const { name, load } = definition;
  if (typeof name !== "string" || name === "" || /\s/.test(name)) {
    throw new CistaError(
      "invalid-source",
      DEVELOPMENT && `A source's name is text without white space, such as "hut", but it is ${preview(name)}.`,
    );
  }
  if (typeof load !== "function") {
    throw new CistaError(
      "invalid-source",
      DEVELOPMENT && `The source "${name}" needs a load function, but load is ${preview(load)}.`,
    );
  }
  settingsOf(definition); // refuses what cannot be where it was written
  const made = Object.freeze({ name, definition: Object.freeze({ ...definition }), ...brings });
  if (DEVELOPMENT) noteMade(made);
  return made;
}

/** Sources made in this go of the event loop. In development only. */
const justMade = new WeakSet<object>();

function noteMade(source: object): void {
  justMade.add(source);
  queueMicrotask(() => justMade.delete(source));
}

/** Whether a source was made in this go of the event loop: of one that a component uses, that it was made by a render. */
export function wasJustMade(source: object): boolean {
  return justMade.has(source);
}
