import { CistaError } from "../core/index.js";
import { preview } from "../core/internal.js";

/** What a query string can say. `undefined` and `null` are left out; of a list each item is said by the same name. */
export type QueryValue = string | number | boolean | Date | null | undefined | readonly (string | number | boolean)[];

/**
 * A URL with these in its query string (WHATWG URL, application/x-www-form-urlencoded), behind what is there already.
 * @throws CistaError code "invalid-query-value" for a value that has no text of its own, such as an object
 * @example url: ({ region, page }) => withQuery("/api/huts", { region, page }) // "/api/huts?region=north&page=2"
 */
export function withQuery(url: string, params: { readonly [name: string]: QueryValue }): string {
  const [, path = "", query = "", fragment = ""] = /^([^?#]*)(\?[^#]*)?(#.*)?$/s.exec(url) ?? [];
  const said = new URLSearchParams(query);
  for (const [name, value] of Object.entries(params)) {
    for (const each of Array.isArray(value) ? value : [value]) {
      if (each !== undefined && each !== null) said.append(name, textOf(name, each));
    }
  }
  const text = said.toString();
  return `${path}${text === "" ? "" : `?${text}`}${fragment}`;
}

function textOf(name: string, value: unknown): string {
  if (value instanceof Date) return value.toISOString();
  if (typeof value !== "object" && typeof value !== "function" && typeof value !== "symbol") return String(value);
  throw new CistaError(
    "invalid-query-value",
    DEVELOPMENT &&
      `A query string says text, numbers, booleans, dates and lists of them, but ${name} is ${preview(value)}. Say its parts one by one.`,
  );
}
