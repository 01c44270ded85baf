/** RFC 9111 §1.2.2: on overflow, take 2^31. */
const mostSeconds = 2 ** 31;

/**
 * A Cache-Control field (RFC 9111 §5.2) as directive → argument, "" where it has none. Names are in lower case; of a
 * directive that stands twice the first counts (§4.2.1). Arguments may be tokens or quoted strings.
 */
export function cacheControl(field: string | null): ReadonlyMap<string, string> {
  const directives = new Map<string, string>();
  const pattern = /([!#$%&'*+.^_`|~\w-]+)\s*(?:=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s,;"]*)))?/g;
  for (const [, name = "", quoted, token] of (field ?? "").matchAll(pattern)) {
    const directive = name.toLowerCase();
    if (!directives.has(directive)) directives.set(directive, quoted?.replace(/\\(.)/g, "$1") ?? token ?? "");
  }
  return directives;
}

/** RFC 9111 §1.2.2: delta-seconds, a non-negative whole number; `undefined` for anything else. */
export function deltaSeconds(text: string | null | undefined): number | undefined {
  if (text == null || !/^\s*\d+\s*$/.test(text)) return undefined;
  return Math.min(Number(text), mostSeconds);
}
