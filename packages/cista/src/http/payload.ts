/** The body of a request: as `fetch` sends it where it knows how, else as JSON. */
export function payloadOf(given: unknown): { body?: BodyInit; fields: Record<string, string> } {
  if (given === undefined) return { fields: {} };
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
