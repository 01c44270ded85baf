import { preview } from "../core/doors/answers.js";
import { CistaError } from "../core/index.js";

/**
 * A URL's path with values in it, each as one segment: encoded, so that none of them leads to another resource.
 * @throws CistaError code "invalid-url" for "", "." and "..", which a URL drops or takes for steps (WHATWG URL, path state), and for
 * a value that has no text of its own, such as an object or `NaN`
 * @example url: ({ id }) => path`/api/huts/${id}` // { id: "a?b/c" } → "/api/huts/a%3Fb%2Fc"
 */
export function path(texts: TemplateStringsArray, ...values: readonly (string | number | bigint | boolean)[]): string {
  let made = texts[0] ?? "";
  for (const [index, value] of values.entries()) made += encoded(value) + (texts[index + 1] ?? "");
  const [before = ""] = made.split(/[?#]/);
  const step = before.split("/").find((segment) => segment === "." || segment === "..");
  if (step !== undefined) refuse(step);
  return made;
}

/** Whether a value has a text of its own, for a URL. */
export function hasText(value: unknown): value is string | number | bigint | boolean {
  return typeof value === "number" ? Number.isFinite(value) : ["string", "bigint", "boolean"].includes(typeof value);
}

function encoded(value: unknown): string {
  if (value === "" || !hasText(value)) refuse(value);
  try {
    return encodeURIComponent(String(value));
  } catch {
    return refuse(value); // half a surrogate pair
  }
}

function refuse(value: unknown): never {
  throw new CistaError(
    "invalid-url",
    DEVELOPMENT &&
      `A value in a path is text of its own, such as "h-07", but it is ${preview(value)}, which would lead to another resource. Check the params, or leave them undefined until they are known.`,
  );
}
