import { preview } from "../core/doors/answers.js";
import { CistaError } from "../core/index.js";
import { hasText } from "./path.js";

/** The values of a query string. `undefined` and `null` are left out; each item of a list has the same name. */
export type QueryValue = string | number | boolean | Date | null | undefined | readonly (string | number | boolean)[];

/** An object of such values, for a parameter whose style says how it is written. */
export type QueryObject = { readonly [member: string]: string | number | boolean | Date | null | undefined };

/**
 * How the lists and objects of one parameter are written (OpenAPI, "Style Values"): "form" as `id=1&id=2`, or as `id=1,2`
 * with `explode: false`; "spaceDelimited" as `id=1%202`; "pipeDelimited" as `id=1%7C2`; "deepObject" as `id%5Brole%5D=warden`.
 */
export interface QueryStyle {
  /** Default "form". */
  readonly style?: "form" | "spaceDelimited" | "pipeDelimited" | "deepObject";
  /** Whether each item, or member, is a pair of its own. Default: with "form" and "deepObject". */
  readonly explode?: boolean;
}

/**
 * A URL with these in its query string (WHATWG URL, application/x-www-form-urlencoded), behind the members that are there already.
 * @param styles of single parameters, by their names: how their lists and objects are written
 * @throws CistaError code "invalid-query-value" for a value that has no text of its own, such as an object without a style, `NaN` or an invalid date
 * @example
 * url: ({ region, page }) => withQuery("/api/huts", { region, page }) // "/api/huts?region=north&page=2"
 * url: ({ ids }) => withQuery("/api/huts", { ids }, { ids: { explode: false } }) // "/api/huts?ids=h-07,h-12"
 */
export function withQuery(
  url: string,
  params: { readonly [name: string]: QueryValue | QueryObject },
  styles: { readonly [name: string]: QueryStyle } = {},
): string {
  const [, path = "", query = "", fragment = ""] = /^([^?#]*)(\?[^#]*)?(#.*)?$/s.exec(url) ?? [];
  const before = new URLSearchParams(query).toString();
  const said = Object.entries(params).flatMap(([name, value]) => pairsOf(name, value, styles[name]));
  const text = [...(before === "" ? [] : [before]), ...said].join("&");
  return `${path}${text === "" ? "" : `?${text}`}${fragment}`;
}

const delimiters = { form: ",", spaceDelimited: "%20", pipeDelimited: "%7C", deepObject: "," };

/** One parameter as "name=text", so often as it is said. */
function pairsOf(name: string, value: unknown, styled: QueryStyle | undefined): string[] {
  const { style = "form", explode = style === "form" || style === "deepObject" } = styled ?? {};
  if (styled && isObject(value)) {
    const members = Object.entries(value).filter(([, member]) => member !== undefined && member !== null);
    if (style === "deepObject") return members.map(([key, member]) => pair(`${name}[${key}]`, textOf(name, member)));
    if (explode) return members.map(([key, member]) => pair(key, textOf(name, member)));
    return joined(
      name,
      members.flatMap(([key, member]) => [key, textOf(name, member)]),
      style,
    );
  }
  const items = Array.isArray(value) ? value : [value];
  const texts = items.filter((each) => each !== undefined && each !== null).map((each) => textOf(name, each));
  return explode ? texts.map((text) => pair(name, text)) : joined(name, texts, style);
}

function joined(name: string, texts: readonly string[], style: keyof typeof delimiters): string[] {
  return texts.length === 0 ? [] : [`${encoded(name)}=${texts.map(encoded).join(delimiters[style])}`];
}

function pair(name: string, text: string): string {
  return `${encoded(name)}=${encoded(text)}`;
}

/** As a form does (WHATWG URL, application/x-www-form-urlencoded serializer). */
function encoded(text: string): string {
  return new URLSearchParams([["", text]]).toString().slice(1);
}

function isObject(value: unknown): value is object {
  return typeof value === "object" && value !== null && !Array.isArray(value) && !(value instanceof Date);
}

function textOf(name: string, value: unknown): string {
  if (hasText(value)) return String(value);
  const isDate = value instanceof Date;
  if (isDate && !Number.isNaN(value.getTime())) return value.toISOString();
  throw new CistaError(
    "invalid-query-value",
    DEVELOPMENT &&
      `A query string has text, finite numbers, booleans, valid dates and lists of these, but ${name} is ${isDate ? "an invalid date" : preview(value)}. ${typeof value === "number" || isDate ? "Check it, or leave it undefined until it is known" : `Say its parts one by one, or name its style: withQuery(url, params, { ${name}: { style: "deepObject" } })`}.`,
  );
}
