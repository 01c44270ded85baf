/** Sources that are made of others. Their machinery comes along with them. Rules D1 to D6. */
import type { Answer } from "../../api/answer.js";
import type { OutputOf, StandardSchema } from "../../api/check.js";
import { define } from "../../api/source.js";
import type {
  CompositeContext,
  Known,
  Loaded,
  SaysNoParams,
  Source,
  SourceDefinition,
} from "../../api/source-contract.js";
import { type Composing, composingKey } from "../../state/links.js";
import { beginReading } from "./composing.js";
import { putOver } from "./dependencies.js";

const composing: Composing = { begin: beginReading, put: putOver };

/** The argument of `composite`: a source's definition with a load that may read other sources. */
export type CompositeDefinition<P, R, T> = Omit<SourceDefinition<P, R, T>, "load"> & {
  load(params: P, context: CompositeContext): R;
};

/**
 * A source whose load reads others: `read` in its context. A change of a dependency reaches all dependents above it.
 * @example
 * const route = composite({ name: "route", load: async ({ from, to }: Trip, { read }) => [await read(hut, from), await read(hut, to)] });
 * @throws as `source` does; a load that reads one of its own dependents fails by a CistaError code "dependency-cycle"
 */
export function composite<P = void, S extends StandardSchema<any, any> = StandardSchema<any, any>>(
  definition: Omit<CompositeDefinition<P, unknown, Known<OutputOf<S>>>, "check" | "load"> & {
    check: S;
    load(params: P, context: CompositeContext): unknown;
  } & SaysNoParams<P>,
): Source<P, Known<OutputOf<S>>>;
export function composite<P = void, T = never>(
  definition: CompositeDefinition<P, Promise<NoInfer<Loaded<T> | Answer<Loaded<T>>>>, Loaded<T>> & SaysNoParams<P>,
): Source<P, Loaded<T>>;
export function composite<P = void, T = never>(
  definition: CompositeDefinition<P, AsyncIterable<NoInfer<Loaded<T> | Answer<Loaded<T>>>>, Loaded<T>> &
    SaysNoParams<P>,
): Source<P, Loaded<T>>;
export function composite<P = void, R = unknown>(
  definition: CompositeDefinition<P, R, Known<Loaded<R>>> & SaysNoParams<P>,
): Source<P, Known<Loaded<R>>>;
export function composite(definition: any): Source<any, any> {
  return define(definition, { [composingKey]: composing });
}
