/** RFC 9111 §1.2.2: on overflow, take 2^31. */
const mostSeconds = 2 ** 31;

/** A member of the list: text up to a comma that stands outside of a quoted string. A quote that is never closed is a letter like others. */
const members = /(?:"(?:[^"\\]|\\.)*"|[^,])+/g;
const directive = /^\s*([!#$%&'*+.^_`|~\w-]+)(?:=(?:"((?:[^"\\]|\\.)*)"|([!#$%&'*+.^_`|~\w-]+)))?(.*)$/s;

/** What stands where an argument cannot be read: odd words around it, or two that contradict each other. */
const unreadable = "?";

/**
 * A Cache-Control field (RFC 9111 §5.2) as directive → argument, "" where it has none. Names are in lower case; arguments
 * may be tokens or quoted strings. Two different arguments for one directive contradict each other (§4.2.1): then, as
 * where the grammar is broken, the argument is "?", which is no number.
 */
export function cacheControl(field: string | null): ReadonlyMap<string, string> {
  const directives = new Map<string, string>();
  for (const [member] of (field ?? "").matchAll(members)) {
    const [, name, quoted, token, rest = ""] = directive.exec(member) ?? [];
    if (name === undefined) continue;
    const argument = rest.trim() === "" ? (quoted?.replace(/\\(.)/gs, "$1") ?? token ?? "") : unreadable;
    const before = directives.get(name.toLowerCase()) ?? argument;
    directives.set(name.toLowerCase(), before === argument ? argument : unreadable);
  }
  return directives;
}

/** RFC 9111 §1.2.2: delta-seconds, a non-negative whole number; `undefined` for anything else. */
export function deltaSeconds(text: string | null | undefined): number | undefined {
  return text != null && /^\d+$/.test(text) ? Math.min(Number(text), mostSeconds) : undefined;
}
