/** A value as JSON; undefined where it has no text, such as a BigInt, or a value that contains itself. */
export function jsonOf(value: unknown): string | undefined {
  try {
    return JSON.stringify(value);
  } catch {
    return undefined;
  }
}

/**
 * Whether JSON gives a value back as it is: text, finite numbers, booleans, null, arrays, and objects without a class.
 * @param isLenient also members of an object that are `undefined`, which JSON leaves out, and `-0`, of which it makes 0
 * @param deepest so many levels at most. A value that contains itself ends here: without a limit there must be none
 */
export function isJson(value: unknown, isLenient: boolean, deepest: number = Number.POSITIVE_INFINITY): boolean {
  if (typeof value === "number") return Number.isFinite(value) && (isLenient || !Object.is(value, -0));
  if (typeof value !== "object") return typeof value === "string" || typeof value === "boolean";
  if (value === null) return true;
  if (deepest < 0 || "toJSON" in value) return false;
  const isList = Array.isArray(value);
  const prototype: unknown = Object.getPrototypeOf(value);
  if (!isList && prototype !== Object.prototype && prototype !== null) return false;
  if (isList) {
    for (const member of value) if (!isJson(member, isLenient, deepest - 1)) return false; // a hole too, of which JSON makes null
    return true;
  }
  // Without a list of the members: there would be one for each object of each page.
  for (const name in value) {
    const member: unknown = (value as Record<string, unknown>)[name];
    const isLeftOut = (member === undefined && isLenient) || !Object.hasOwn(value, name);
    if (!isLeftOut && !isJson(member, isLenient, deepest - 1)) return false;
  }
  return true;
}
