import { Failure } from "../core/index.js";

/**
 * The body as text.
 * @throws Failure kind "http" for one longer than `most` bytes; it is not read to its end
 */
export async function bodyText(response: Response, most: number): Promise<string> {
  const announced = Number(response.headers.get("content-length") ?? 0);
  if (announced > most) {
    await response.body?.cancel();
    throw tooLong(response, most);
  }
  if (!response.body) return response.text();
  const reader = response.body.getReader();
  const decoder = new TextDecoder();
  let text = "";
  let bytes = 0;
  for (let part = await reader.read(); !part.done; part = await reader.read()) {
    bytes += part.value.byteLength;
    if (bytes > most) {
      await reader.cancel();
      throw tooLong(response, most);
    }
    text += decoder.decode(part.value, { stream: true });
  }
  return text + decoder.decode();
}

/** The body as JSON; `null` for one without content (RFC 9110 §15.3.5). @throws Failure kind "shape" that shows what came */
export function parseJson(text: string, response: Response): unknown {
  if (text === "" && response.status === 204) return null;
  try {
    return JSON.parse(text);
  } catch (cause) {
    const type = response.headers.get("content-type") ?? "no content type";
    const words = text.trim().slice(0, 80).replace(/\s+/g, " ");
    const what = words === "" ? "an empty body" : `text that begins ${JSON.stringify(words)}`;
    throw new Failure("shape", `JSON was expected from ${place(response)}, but ${what} came (${type}).`, {
      cause,
      status: response.status,
      retryable: false,
    });
  }
}

/** Where a response came from, for messages: no query, which may hold what no log should. */
export function place(response: Response): string {
  return response.url.replace(/[?#].*$/, "") || "the server";
}

function tooLong(response: Response, most: number): Failure {
  const message = `The body from ${place(response)} is longer than ${most} bytes. Raise maxBody if that is as it should be.`;
  return new Failure("http", message, { status: response.status, retryable: false });
}
