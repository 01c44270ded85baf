import type { Failure } from "../core/index.js";

/** So many fields, and texts of one field, are told. */
const most = 1000;

/**
 * What is wrong with each field of a form, by the field's name: out of a failure's problem (RFC 9457), or of its JSON where
 * that is no problem. Known are a list under `errors` (or `invalid-params`, of RFC 7807's example) whose members name their
 * field by `pointer` (RFC 6901), `field`, `name`, `path` or `parameter`, and an object under `errors` with a member for each
 * field. A field within another is "address.street". What names no field stands under "". Texts are the server's.
 * @example
 * const wrong = problemsByField(failure);
 * {wrong.nights && <p role="alert">{wrong.nights.join(" ")}</p>}
 */
export function problemsByField(
  failure: Pick<Failure, "problem" | "body"> | undefined,
): Readonly<Record<string, readonly string[]>> {
  const said = (failure?.problem ?? failure?.body ?? {}) as Record<string, unknown>;
  const { errors = said["invalid-params"] } = said;
  const found = new Map<string, string[]>();
  const note = (field: string, text: string | undefined) => {
    if (text === undefined || found.size >= most) return;
    const texts = found.get(field) ?? [];
    if (texts.length < most) found.set(field, [...texts, text]);
  };
  if (Array.isArray(errors)) {
    for (const error of errors.slice(0, most)) note(fieldOf(error), textOf(error));
  } else if (typeof errors === "object" && errors !== null) {
    for (const [field, given] of Object.entries(errors)) {
      for (const error of Array.isArray(given) ? given.slice(0, most) : [given]) note(field, textOf(error));
    }
  }
  return Object.assign(Object.create(null), Object.fromEntries(found));
}

function fieldOf(error: unknown): string {
  if (typeof error !== "object" || error === null) return "";
  const { pointer, field, name, path, parameter } = error as Record<string, unknown>;
  if (typeof pointer === "string") return fieldAt(pointer);
  if (Array.isArray(path)) return path.map(String).join(".");
  const named = [field, name, path, parameter].find((each) => typeof each === "string") as string | undefined;
  return named?.startsWith("/") || named?.startsWith("#/") ? fieldAt(named) : (named ?? "");
}

/** RFC 6901 §4, §6: "#/address/street" is "address.street". */
function fieldAt(pointer: string): string {
  const plain = pointer.startsWith("#") ? decoded(pointer.slice(1)) : pointer;
  const parts = plain.split("/").slice(1);
  return parts.map((part) => part.replaceAll("~1", "/").replaceAll("~0", "~")).join(".");
}

function decoded(text: string): string {
  try {
    return decodeURIComponent(text);
  } catch {
    return text;
  }
}

function textOf(error: unknown): string | undefined {
  if (typeof error === "string") return error;
  if (typeof error !== "object" || error === null) return undefined;
  const { detail, message, reason, title } = error as Record<string, unknown>;
  return [detail, message, reason, title].find((each) => typeof each === "string") as string | undefined;
}
