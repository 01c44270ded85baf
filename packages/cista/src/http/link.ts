const links = /<([^>]*)>((?:\s*;\s*[^\s=;,]+\s*(?:=\s*(?:"(?:[^"\\]|\\.)*"|[^\s;,"]*))?)*)\s*(?:,|$)/g;
const parameters = /;\s*([^\s=;,]+)\s*(?:=\s*(?:"((?:[^"\\]|\\.)*)"|([^\s;,"]*)))?/g;

/**
 * Where the first link of this relation type leads to (RFC 8288 §3); relative targets are resolved against `base`.
 * A link with an `anchor` is about something else; of several `rel` parameters in one link the first counts.
 */
export function linkTo(relation: string, field: string | null, base: string | URL): URL | undefined {
  for (const [, target = "", rest = ""] of (field ?? "").matchAll(links)) {
    const said = new Map<string, string>();
    for (const [, name = "", quoted, token] of rest.matchAll(parameters)) {
      const value = quoted?.replace(/\\(.)/g, "$1") ?? token ?? "";
      if (!said.has(name.toLowerCase())) said.set(name.toLowerCase(), value);
    }
    const types = (said.get("rel") ?? "").toLowerCase().split(/\s+/);
    if (types.includes(relation) && !said.has("anchor") && URL.canParse(target, base)) return new URL(target, base);
  }
  return undefined;
}
