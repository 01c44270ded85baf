/**
 * A structured List of Strings (RFC 9651 §4.2.1, §4.2.5): printable ASCII in double quotes, escapes only `\"` and `\\`;
 * parameters are passed over. `undefined` for a field that is not there or not of this form: then all of it is ignored.
 */
export function stringList(field: string | null): string[] | undefined {
  if (field === null) return undefined;
  const items: string[] = [];
  const item =
    /[ \t]*"((?:[ !#-[\]-~]|\\["\\])*)"(?:;[ ]*[a-z*][a-z0-9_\-.*]*(?:=(?:"(?:[ !#-[\]-~]|\\["\\])*"|[^\s",;]+))?)*[ \t]*(,|$)/y;
  for (;;) {
    const found = item.exec(field);
    if (!found) return items.length === 0 && field.trim() === "" ? [] : undefined;
    items.push((found[1] as string).replace(/\\(["\\])/g, "$1"));
    if (found[2] === "") return items;
  }
}
