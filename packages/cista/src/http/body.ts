import { Failure } from "../core/index.js";
import { place } from "./address.js";
import type { Exchange } from "./exchange.js";

/**
 * The body as text.
 * @throws Failure kind "http" for one longer than `maxBody`, which is not read to its end; "network" for one cut short
 */
export async function bodyText({ response, url, maxBody }: Exchange): Promise<string> {
  const announced = Number(response.headers.get("content-length") ?? 0);
  if (announced > maxBody) {
    await response.body?.cancel();
    throw tooLong(response, url, maxBody);
  }
  if (!response.body) return response.text();
  const reader = response.body.getReader();
  const decoder = new TextDecoder();
  let text = "";
  let bytes = 0;
  const next = () =>
    reader.read().catch((cause: unknown) => {
      if (!(cause instanceof TypeError)) throw cause; // an abort
      throw new Failure("network", `The body from ${place(url)} broke off after ${bytes} bytes.`, { cause });
    });
  for (let part = await next(); !part.done; part = await next()) {
    bytes += part.value.byteLength;
    if (bytes > maxBody) {
      await reader.cancel();
      throw tooLong(response, url, maxBody);
    }
    text += decoder.decode(part.value, { stream: true });
  }
  return text + decoder.decode();
}

/** The body as JSON; `null` for one without content (RFC 9110 §15.3.5). @throws Failure kind "shape" that shows what came */
export async function bodyJson(exchange: Exchange): Promise<unknown> {
  const { response, url } = exchange;
  const text = await bodyText(exchange);
  if (text === "" && response.status === 204) return null;
  try {
    return JSON.parse(text);
  } catch (cause) {
    const type = response.headers.get("content-type") ?? "no content type";
    const words = text.trim().slice(0, 80).replace(/\s+/g, " ");
    const what = words === "" ? "an empty body" : `text that begins ${JSON.stringify(words)}`;
    throw new Failure("shape", `JSON was expected from ${place(url)}, but ${what} came (${type}).`, {
      cause,
      status: response.status,
      retryable: false,
    });
  }
}

/** Takes the value out of the body that carries it. @throws Failure kind "shape" with the member names that came */
export function unwrapped<T>(unwrap: (body: any) => T, body: unknown, { response, url }: Exchange): T {
  const misfit = (what: string, cause?: unknown) =>
    new Failure(
      "shape",
      `The body from ${place(url)} has another shape than expected: ${what}, and the body is ${outline(body)}.`,
      { status: response.status, retryable: false, ...(cause ? { cause } : {}) },
    );
  let value: T;
  try {
    value = unwrap(body);
  } catch (cause) {
    throw misfit("unwrap threw", cause);
  }
  if (value === undefined) throw misfit("unwrap found nothing");
  return value;
}

/** A body by its kind and member names. */
export function outline(body: unknown): string {
  if (Array.isArray(body)) return `an array of ${body.length}`;
  if (typeof body !== "object" || body === null) return body === null ? "null" : `a ${typeof body}`;
  const names = Object.keys(body);
  return names.length === 0
    ? "an object without members"
    : `an object with the members ${names.slice(0, 12).join(", ")}${names.length > 12 ? ", …" : ""}`;
}

function tooLong(response: Response, url: URL, most: number): Failure {
  const message = `The body from ${place(url)} is longer than ${most} bytes. Raise maxBody if that is as it should be.`;
  return new Failure("http", message, { status: response.status, retryable: false });
}
