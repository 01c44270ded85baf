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

/** The same, but the next value belongs to somebody else: what is to be changed in it is copied. */
export function shareKeeping<T>(previous: T, next: T): T {
  return guardedMerge(previous, next, false);
}

function guardedMerge<T>(previous: T, next: T, inPlace: boolean): T {
  try {
    return merge(previous, next, inPlace, 0) as T;
  } catch {
    return next; // too deep, or a member that cannot be written: keeping references is never worth a failure
  }
}

const tooDeep = new RangeError("deeper than values are compared");

function merge(previous: unknown, next: unknown, inPlace: boolean, depth: number): unknown {
  if (previous === next) return previous;
  if (typeof previous !== "object" || typeof next !== "object" || previous === null || next === null) {
    return Number.isNaN(previous) && Number.isNaN(next) ? previous : next;
  }
  if (depth > deepest) throw tooDeep;
  const prototype: unknown = Object.getPrototypeOf(next);
  if (prototype !== Object.getPrototypeOf(previous)) return next;
  if (Array.isArray(next)) return mergeItems(previous as unknown[], next as unknown[], inPlace, depth);
  if (prototype !== Object.prototype && prototype !== null) return next;
  return mergeMembers(previous as Record<string, unknown>, next as Record<string, unknown>, inPlace, depth);
}

function mergeItems(previous: unknown[], next: unknown[], inPlace: boolean, depth: number): unknown {
  let same = previous.length === next.length;
  let target = next;
  for (let i = 0; i < next.length; i++) {
    const item = next[i];
    const kept = i < previous.length ? merge(previous[i], item, inPlace, depth + 1) : item;
    if (kept !== item) {
      if (target === next && (!inPlace || Object.isFrozen(next))) target = [...next];
      target[i] = kept;
    }
    if (same && kept !== previous[i]) same = Number.isNaN(kept) && Number.isNaN(previous[i]);
  }
  return same ? previous : target;
}

function mergeMembers(
  previous: Record<string, unknown>,
  next: Record<string, unknown>,
  inPlace: boolean,
  depth: number,
): unknown {
  let same = true;
  let left = 0;
  let target = next;
  for (const name in next) {
    left++;
    const member = next[name];
    const before = previous[name];
    if ((before === undefined || name === "__proto__") && !Object.hasOwn(previous, name)) {
      same = false;
      continue;
    }
    if (before === member) continue;
    const kept = merge(before, member, inPlace, depth + 1);
    if (kept !== member) {
      if (target === next && (!inPlace || Object.isFrozen(next))) target = copyOf(next);
      // An own member, so that even one named __proto__ is only written over, never a prototype set.
      target[name] = kept;
    }
    if (kept !== before) same &&= Number.isNaN(kept) && Number.isNaN(before);
  }
  if (!same) return target;
  for (const _ in previous) left--;
  return left === 0 ? previous : target;
}

/** Member by member, so that one named __proto__ stays a member. */
function copyOf(object: Record<string, unknown>): Record<string, unknown> {
  const copy: Record<string, unknown> = Object.create(Object.getPrototypeOf(object));
  for (const name of Object.keys(object)) {
    Object.defineProperty(copy, name, { value: object[name], writable: true, enumerable: true, configurable: true });
  }
  return copy;
}
