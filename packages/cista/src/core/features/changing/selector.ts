/** Which entries a selector means. */
import { chooses, type PartOf, type Selector, type SourceSelector } from "../../api/contract.js";
import { CistaError, preview } from "../../api/failure.js";
import type { Source } from "../../api/source-contract.js";
import { entriesInGroup } from "../../kernel/named-groups.js";
import { keyText, sameParams } from "../../lib/key.js";
import type { Core } from "../../state/core.js";
import type { Entry } from "../../state/entry.js";

/**
 * A selector whose params are checked against the source's: for `invalidates`, where nothing else does.
 * @example invalidates: ({ id }) => [matching(huts, { region: "north" }), matching(hut, { id })]
 */
export function matching<P, T>(source: Source<P, T>, params: NoInfer<P> | PartOf<NoInfer<P>>): SourceSelector<P, T> {
  return { source, params };
}

/** The entries that a selector means, as they are now. @throws CistaError code "invalid-selector" for one of another form */
export function selected(core: Core, selector: Selector): Entry[] {
  const { shelves } = core;
  if (selector === "all") return [...shelves.byKey.values()];
  if (typeof selector === "object" && selector !== null) {
    if ("definition" in selector) return ofSource(core, selector);
    if ("source" in selector) return ofSourceWith(core, selector);
    if ("key" in selector) return one(shelves.byKey.get(selector.key));
    if ("group" in selector) return entriesInGroup(core, selector);
    if (chooses in selector) return [...shelves.byKey.values()].filter(selector[chooses] as (entry: Entry) => boolean);
  }
  throw new CistaError(
    "invalid-selector",
    DEVELOPMENT &&
      `A selector is a source, { source, params }, { key }, { group }, where(test) or "all", but it is ${preview(selector)}.`,
  );
}

function ofSource(core: Core, source: Source<any, any>): Entry[] {
  return [...core.shelves.of(source)];
}

/** Params that are no object are meant as they are. Of an object each member that is there counts. */
function ofSourceWith(core: Core, { source, ...rest }: SourceSelector<any>): Entry[] {
  if (!("params" in rest)) return ofSource(core, source);
  const { params } = rest;
  if (!hasMembers(params)) return one(core.shelves.find(source, params));
  keyText(source.name, params); // refuses what no params can be
  return ofSource(core, source).filter((entry) => hasPart(entry.params, params));
}

/** Whether an entry's params are meant by those of a selector. */
export function areMeant(params: unknown, meant: unknown): boolean {
  return hasMembers(meant) ? hasPart(params, meant) : sameParams(plain(params), plain(meant));
}

/** Whether params have a part: of objects, also within, each member that is not undefined; all else is to be the same. */
function hasPart(whole: unknown, part: unknown): boolean {
  const [ours, theirs] = [plain(whole), plain(part)];
  if (!hasMembers(theirs)) return sameParams(ours, theirs);
  if (!hasMembers(ours)) return false;
  return Object.keys(theirs).every(
    (name) => theirs[name] === undefined || (Object.hasOwn(ours, name) && hasPart(ours[name], theirs[name])),
  );
}

function hasMembers(params: unknown): params is Record<string, unknown> {
  return typeof params === "object" && params !== null && !Array.isArray(params) && plain(params) === params;
}

/** As it stands in a key. */
function plain(value: unknown): unknown {
  const toJSON = (value as { toJSON?: unknown } | null | undefined)?.toJSON;
  return typeof toJSON === "function" ? plain(toJSON.call(value)) : value;
}

function one(entry: Entry | undefined): Entry[] {
  return entry ? [entry] : [];
}
