/** Deeper values than this are not compared: recursion stays bounded, and a value that contains itself ends here. */
const deepest = 200;

/**
 * The next value with every part that did not change replaced by the previous one's reference; the previous value itself
 * where nothing changed. The next value belongs to the cache: it is changed in place (a frozen part is copied).
 * Plain objects and arrays are compared, everything else by identity.
 * @internal
 */
export function share<T>(previous: T, next: T): T {
  return guardedMerge(previous, next, true);
}

/** Like `share`, for a next value that belongs to another owner: a part that is to be changed is copied first. */
export function shareKeeping<T>(previous: T, next: T): T {
  return guardedMerge(previous, next, false);
}

function guardedMerge<T>(previous: T, next: T, inPlace: boolean): T {
  try {
    return merge({ inPlace, parts: 0, known: undefined }, previous, next, 0) as T;
  } catch {
    return next; // too deep, or a member that cannot be written: keeping references is never worth a failure
  }
}

const tooDeep = new RangeError("deeper than values are compared");

/** So many parts compared in one value suggest that some are reached by many ways: from then on each pair is compared once. */
const manyParts = 2 ** 15;

/**
 * In so many parts of a value, in the whole, and in lists right within it, it is looked for what a loop does not see: symbols,
 * hidden members, members beside items. Of a larger value the rest is taken to have come over a wire.
 */
const mostLookedAt = 500;

/** One comparison of two values. */
interface Comparison {
  readonly inPlace: boolean;
  parts: number;
  /** The results of the pairs that were compared so far, by the next one of each; made when there are many. */
  known: Map<unknown, { readonly previous: unknown; readonly kept: unknown }> | undefined;
}

function merge(run: Comparison, previous: unknown, next: unknown, depth: number): unknown {
  if (typeof previous !== "object" || typeof next !== "object" || previous === null || next === null) {
    return Object.is(previous, next) ? previous : next; // 0 and -0 are two values
  }
  if (previous === next) return previous;
  if (depth > deepest) throw tooDeep;
  const prototype: unknown = Object.getPrototypeOf(next);
  if (prototype !== Object.getPrototypeOf(previous)) return next;
  const list = Array.isArray(next);
  if (!list && prototype !== Object.prototype && prototype !== null) return next;
  if (++run.parts > manyParts) return mergeOnce(run, previous, next, depth);
  return list
    ? mergeItems(run, previous as unknown[], next as unknown[], depth)
    : mergeMembers(run, previous as Record<string, unknown>, next as Record<string, unknown>, depth);
}

function mergeOnce(run: Comparison, previous: object, next: object, depth: number): unknown {
  run.known ??= new Map();
  const known = run.known.get(next);
  if (known?.previous === previous) return known.kept;
  const kept = Array.isArray(next)
    ? mergeItems(run, previous as unknown[], next, depth)
    : mergeMembers(run, previous as Record<string, unknown>, next as Record<string, unknown>, depth);
  run.known.set(next, { previous, kept });
  return kept;
}

function mergeItems(run: Comparison, previous: unknown[], next: unknown[], depth: number): unknown {
  let same = previous.length === next.length;
  let target = next;
  for (let i = 0; i < next.length; i++) {
    const item = next[i];
    if (item === previous[i] && item !== 0 && item !== undefined) continue;
    if (item === undefined && !(i in next)) return next; // holes are no JSON: such a list is left as it is
    const kept = i < previous.length ? merge(run, previous[i], item, depth + 1) : item;
    if (kept !== item) {
      if (target === next && (!run.inPlace || Object.isFrozen(next))) target = [...next];
      target[i] = kept;
    }
    if (same) same = Object.is(kept, previous[i]);
  }
  // Members beside the items are no JSON either: then nothing is taken for the same.
  if (same && (run.parts < mostLookedAt || depth < 2)) same = isPlainList(next) && isPlainList(previous);
  return same ? previous : target;
}

function mergeMembers(
  run: Comparison,
  previous: Record<string, unknown>,
  next: Record<string, unknown>,
  depth: number,
): unknown {
  let same = true;
  let count = 0;
  let left = 0;
  let target = next;
  for (const name in next) {
    count++;
    const member = next[name];
    const before = previous[name];
    if (before === member && member !== 0 && member !== undefined) continue; // the quick way: 0 may be -0
    if ((before === undefined || name === "__proto__") && !Object.hasOwn(previous, name)) {
      same = false;
      continue;
    }
    const kept = merge(run, before, member, depth + 1);
    if (kept !== member) {
      if (target === next && (!run.inPlace || Object.isFrozen(next))) target = copyOf(next);
      // An own member, so that even one named __proto__ is only written over, never a prototype set.
      target[name] = kept;
    }
    if (same) same = Object.is(kept, before);
  }
  if (!same) return target;
  for (const _ in previous) left++;
  if (left !== count) return target;
  if (run.parts >= mostLookedAt && depth > 0) return previous;
  return hasOnly(next, count) && hasOnly(previous, count) ? previous : target;
}

function isPlainList(list: readonly unknown[]): boolean {
  return Object.keys(list).length === list.length && Object.getOwnPropertySymbols(list).length === 0;
}

/** Members that a loop does not see, symbols among them, are not compared: with such nothing is taken for the same. */
function hasOnly(object: object, count: number): boolean {
  return Object.getOwnPropertyNames(object).length === count && Object.getOwnPropertySymbols(object).length === 0;
}

/** Member by member, so that one named __proto__ stays a member, and none of a frozen object stays read-only. */
function copyOf(object: Record<string, unknown>): Record<string, unknown> {
  const copy: Record<string, unknown> = Object.create(Object.getPrototypeOf(object));
  for (const name of Reflect.ownKeys(object)) {
    const member = Object.getOwnPropertyDescriptor(object, name) as PropertyDescriptor;
    Object.defineProperty(copy, name, {
      ...member,
      configurable: true,
      ...("value" in member ? { writable: true } : {}),
    });
  }
  return copy;
}
