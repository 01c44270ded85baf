import { FieldScanner } from "./field-scanner.js";

interface Link {
  readonly target: string;
  readonly parameters: ReadonlyMap<string, string>;
}

/**
 * Where the first link of this relation type leads to (RFC 8288 §3); relative targets are resolved against `base`.
 * A link with an `anchor` is about something else; of several `rel` parameters in one link the first counts.
 */
export function parseLink(relation: string, field: string | null, base: string | URL): URL | undefined {
  for (const { target, parameters } of linksIn(field ?? "")) {
    const types = (parameters.get("rel") ?? "").toLowerCase().split(/\s+/);
    if (types.includes(relation) && !parameters.has("anchor") && URL.canParse(target, base)) {
      return new URL(target, base);
    }
  }
  return undefined;
}

/** The links of a field, in order. Text that is no link by the grammar is passed over. */
function* linksIn(field: string): Generator<Link> {
  const scanner = new FieldScanner(field);
  while (!scanner.isAtEnd) {
    scanner.skipWhitespace();
    const target = scanner.take("<") ? scanner.until(">") : undefined;
    const parameters = target === undefined ? undefined : parametersOf(scanner);
    const rest = scanner.restOfMember();
    if (target !== undefined && parameters && rest.trim() === "") yield { target, parameters };
  }
}

/** RFC 8288 §3: *( OWS ";" OWS link-param ). Of several with one name the first counts. */
function parametersOf(scanner: FieldScanner): Map<string, string> {
  const parameters = new Map<string, string>();
  scanner.skipWhitespace();
  while (scanner.take(";")) {
    scanner.skipWhitespace();
    const name = scanner.run((character) => !/[\s=;,"]/.test(character)).toLowerCase();
    scanner.skipWhitespace();
    let value = "";
    if (scanner.take("=")) {
      scanner.skipWhitespace();
      value = scanner.quotedString() ?? scanner.run((character) => !/[\s;,"]/.test(character));
    }
    if (name !== "" && !parameters.has(name)) parameters.set(name, value);
    scanner.skipWhitespace();
  }
  return parameters;
}
