import { FieldScanner } from "./field-scanner.js";

/** RFC 9111 §1.2.2: on overflow, take 2^31. */
const mostSeconds = 2 ** 31;

/** Stands for an argument that cannot be read: odd words around it, or two that contradict each other. */
const unreadable = "?";

/**
 * A Cache-Control field (RFC 9111 §5.2) as directive → argument, "" where it has none. Names are in lower case; arguments
 * may be tokens or quoted strings. Two different arguments for one directive contradict each other (§4.2.1): then, as
 * where the grammar is broken, the argument is "?", which is no number. A quote that is never closed is a letter like others.
 */
export function parseCacheControl(field: string | null): ReadonlyMap<string, string> {
  const directives = new Map<string, string>();
  const scanner = new FieldScanner(field ?? "");
  while (!scanner.isAtEnd) {
    scanner.skipWhitespace();
    const name = scanner.token().toLowerCase();
    const read = scanner.take("=") ? (scanner.quotedString() ?? (scanner.token() || unreadable)) : "";
    const argument = scanner.restOfMember().trim() === "" ? read : unreadable;
    if (name === "") continue;
    const before = directives.get(name) ?? argument;
    directives.set(name, before === argument ? argument : unreadable);
  }
  return directives;
}

/** RFC 9111 §1.2.2: delta-seconds, a non-negative whole number; `undefined` for anything else. */
export function deltaSeconds(text: string | null | undefined): number | undefined {
  return text != null && /^\d+$/.test(text) ? Math.min(Number(text), mostSeconds) : undefined;
}
