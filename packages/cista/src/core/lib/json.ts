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
 * @param deepest so many levels at most: a value that contains itself ends here
 * @param isLenient also members of an object that are `undefined`, which JSON leaves out, and `-0`, of which it makes 0
 */
export function isJson(value: unknown, deepest: number, isLenient = false): boolean {
  const left: { value: unknown; depth: number }[] = [{ value, depth: 0 }];
  for (let next = left.pop(); next; next = left.pop()) {
    const { value: part, depth } = next;
    if (part === null || typeof part === "string" || typeof part === "boolean") continue;
    if (typeof part === "number") {
      if (!Number.isFinite(part) || (Object.is(part, -0) && !isLenient)) return false;
      continue;
    }
    if (typeof part !== "object" || depth > deepest || "toJSON" in part) return false;
    const isList = Array.isArray(part);
    const prototype: unknown = Object.getPrototypeOf(part);
    if (!isList && prototype !== Object.prototype && prototype !== null) return false;
    for (const member of isList ? part : Object.values(part))
      if (member !== undefined || isList || !isLenient) left.push({ value: member, depth: depth + 1 });
  }
  return true;
}
