import { FieldScanner } from "./field-scanner.js";

/**
 * A structured List of Strings (RFC 9651 §4.2.1, §4.2.5): printable ASCII in double quotes, escapes only `\"` and `\\`;
 * parameters are passed over. `undefined` for a field that is not there or not of this form: then all of it is ignored.
 */
export function parseStringList(field: string | null): string[] | undefined {
  if (field === null) return undefined;
  const scanner = new FieldScanner(field);
  const items: string[] = [];
  skipSpaces(scanner);
  if (scanner.isAtEnd) return items;
  for (;;) {
    const item = stringIn(scanner);
    if (item === undefined || !passParameters(scanner)) return undefined;
    items.push(item);
    skipSpaces(scanner);
    if (scanner.isAtEnd) return items;
    if (!scanner.take(",")) return undefined;
    skipSpaces(scanner);
  }
}

function skipSpaces(scanner: FieldScanner): void {
  scanner.run((character) => character === " " || character === "\t");
}

/** RFC 9651 §4.2.5. */
function stringIn(scanner: FieldScanner): string | undefined {
  if (!scanner.take('"')) return undefined;
  let content = "";
  for (;;) {
    content += scanner.run(
      (character) => character >= " " && character <= "~" && character !== '"' && character !== "\\",
    );
    if (scanner.take('"')) return content;
    if (!scanner.take("\\") || (scanner.next !== '"' && scanner.next !== "\\")) return undefined;
    content += scanner.next;
    scanner.take(scanner.next);
  }
}

/** RFC 9651 §4.2.3.2. False where they are none. */
function passParameters(scanner: FieldScanner): boolean {
  while (scanner.take(";")) {
    scanner.run((character) => character === " ");
    if (!/[a-z*]/.test(scanner.next)) return false;
    scanner.run((character) => /[a-z0-9_\-.*]/.test(character));
    if (!scanner.take("=")) continue;
    if (scanner.next === '"' ? stringIn(scanner) === undefined : scanner.run((each) => !/[\s",;]/.test(each)) === "") {
      return false;
    }
  }
  return true;
}
