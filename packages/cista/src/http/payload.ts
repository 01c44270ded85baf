import { CistaError } from "../core/index.js";

/**
 * The body of a request: as `fetch` sends it where it knows how, else as JSON.
 * @throws CistaError code "invalid-body" for a stream: a request may have to be sent again
 */
export function payloadOf(given: unknown, name: string): { body?: BodyInit; fields: Record<string, string> } {
  if (given === undefined) return { fields: {} };
  if (given instanceof ReadableStream) {
    throw new CistaError(
      "invalid-body",
      DEVELOPMENT &&
        `The body of "${name}" is a ReadableStream, which can be read once. A request may be sent again: after a renewal of its token, after a redirection. Give a Blob, such as await new Response(stream).blob().`,
    );
  }
  if (isBody(given)) return { body: given, fields: {} };
  return { body: JSON.stringify(given), fields: { "content-type": "application/json" } };
}

/** A body that `fetch` sends as it is, with a content type of its own. */
function isBody(value: unknown): value is BodyInit {
  return (
    typeof value === "string" ||
    value instanceof FormData ||
    value instanceof URLSearchParams ||
    value instanceof Blob ||
    value instanceof ArrayBuffer ||
    ArrayBuffer.isView(value)
  );
}
