/** Freezes held values in development, so that a change in place shows where it is made. */

/** Plain objects and arrays, all the way down; a frozen object is taken to be frozen within. Everything else is left as it is. */
export function freezeDeep(value: unknown): void {
  const left: unknown[] = [value];
  while (left.length > 0) {
    const next = left.pop();
    if (!isPlain(next) || Object.isFrozen(next)) continue;
    Object.freeze(next);
    for (const member of Object.values(next)) left.push(member);
  }
}

function isPlain(value: unknown): value is object {
  if (typeof value !== "object" || value === null || "toJSON" in value) return false;
  if (Array.isArray(value)) return true;
  const prototype: unknown = Object.getPrototypeOf(value);
  return prototype === null || prototype === Object.prototype;
}
