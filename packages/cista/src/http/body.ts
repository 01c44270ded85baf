import { Failure } from "../core/index.js";
import { withoutQuery } from "./address.js";
import type { Exchange } from "./server.js";

/** A body that is read part by part, and counted. */
class CountedBody {
  readonly #exchange: Exchange;
  readonly #reader: ReadableStreamDefaultReader<Uint8Array> | undefined;
  #bytes = 0;

  /** @throws Failure kind "http" for one that says that it is longer than `maxBody` */
  constructor(exchange: Exchange) {
    const { response, url, maxBody } = exchange;
    this.#exchange = exchange;
    if (Number(response.headers.get("content-length") ?? 0) > maxBody) {
      response.body?.cancel().catch(() => {});
      throw tooLong(response, url, maxBody);
    }
    this.#reader = response.body?.getReader();
  }

  /**
   * The next part; none at its end.
   * @throws Failure kind "http" for one longer than `maxBody`, which is not read to its end; "network" for one cut short
   */
  async next(): Promise<Uint8Array | undefined> {
    const { response, url, maxBody } = this.#exchange;
    try {
      const part = await this.#reader?.read();
      if (!part || part.done) return undefined;
      this.#bytes += part.value.byteLength;
      if (this.#bytes > maxBody) throw tooLong(response, url, maxBody);
      return part.value;
    } catch (cause) {
      if (!(cause instanceof TypeError)) throw cause; // an abort, or too long
      const message = `The body from ${withoutQuery(url)} broke off after ${this.#bytes} bytes.`;
      throw new Failure("network", message, { cause });
    }
  }

  /** Whatever is not read is not wanted. */
  async end(): Promise<void> {
    await this.#reader?.cancel().catch(() => {});
  }
}

/** The body, part by part, counted: see `CountedBody`. */
export async function* bodyParts(exchange: Exchange): AsyncGenerator<Uint8Array, void, void> {
  const body = new CountedBody(exchange);
  try {
    for (let part = await body.next(); part; part = await body.next()) yield part;
  } finally {
    await body.end();
  }
}

/** The body as text. By a loop, without a generator: there is one for each read. */
export async function bodyText(exchange: Exchange): Promise<string> {
  const body = new CountedBody(exchange);
  const parts: Uint8Array[] = [];
  try {
    for (let part = await body.next(); part; part = await body.next()) parts.push(part);
  } catch (thrown) {
    await body.end();
    throw thrown;
  }
  const [only] = parts;
  if (parts.length <= 1) return utf8.decode(only);
  const decoder = new TextDecoder(); // of a character that stands in two parts it remembers the first half
  return parts.map((part) => decoder.decode(part, { stream: true })).join("") + decoder.decode();
}

/** For a body that comes in one part, as most do: a decoder takes its time to be made. */
const utf8 = /* @__PURE__ */ new TextDecoder();

/** Reads an unneeded body, since a browser's cache would not keep it otherwise. One that is too long is left. */
export async function passBody(exchange: Exchange): Promise<void> {
  try {
    for await (const _ of bodyParts(exchange));
  } catch (thrown) {
    if (!(thrown instanceof Failure)) throw thrown; // an abort
  }
}

/** The response for a program's own `parse`, its body counted like any other. */
export function countedResponse(exchange: Exchange): Response {
  const { response, landed } = exchange;
  if (!response.body) return response;
  const parts = bodyParts(exchange);
  const body = new ReadableStream<Uint8Array>({
    async pull(controller) {
      const { done, value } = await parts.next();
      if (done) controller.close();
      else controller.enqueue(value);
    },
    async cancel() {
      await parts.return();
    },
  });
  const { status, statusText, headers } = response;
  const counted = new Response(body, { status, statusText, headers });
  return Object.defineProperty(counted, "url", { value: response.url || landed.href });
}

/** The body as JSON; `null` for one without content (RFC 9110 §15.3.5). @throws Failure kind "shape" that shows the beginning of the body */
export async function bodyJson(exchange: Exchange): Promise<unknown> {
  return jsonIn(await bodyText(exchange), exchange);
}

export function jsonIn(text: string, { response, url }: Exchange): unknown {
  if (text === "" && response.status === 204) return null;
  try {
    return JSON.parse(text);
  } catch (cause) {
    const type = response.headers.get("content-type") ?? "no content type";
    const words = text.slice(0, 200).trim().slice(0, 80).replace(/\s+/g, " ");
    const what = words === "" ? "an empty body" : `text that begins ${JSON.stringify(words)}`;
    throw new Failure("shape", `JSON was expected from ${withoutQuery(url)}, but ${what} came (${tidy(type)}).`, {
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
      `The body from ${withoutQuery(url)} has another shape than expected: ${what}, and the body is ${outline(body)}.`,
      { status: response.status, retryable: false, ...(cause ? { cause } : {}) },
    );
  let value: T;
  try {
    value = unwrap(body);
  } catch (cause) {
    if (cause instanceof Failure) throw cause; // it says more than this could
    throw misfit(DEVELOPMENT ? `unwrap threw ${tidy(cause)}` : "unwrap threw", cause);
  }
  if (value === undefined) throw misfit("unwrap found nothing");
  return value;
}

/** A body by its kind and member names. */
export function outline(body: unknown): string {
  if (Array.isArray(body)) return `an array of ${body.length}`;
  if (typeof body !== "object" || body === null) return body === null ? "null" : `a ${typeof body}`;
  const names = Object.keys(body).map((name) => tidy(name, 40));
  return names.length === 0
    ? "an object without members"
    : `an object with the members ${names.slice(0, 12).join(", ")}${names.length > 12 ? ", …" : ""}`;
}

/** A server's text for a message: without characters that a terminal would obey or turn round, and never long. */
export function tidy(text: unknown, most = 300): string {
  const plain = String(text)
    .slice(0, most * 2)
    .replace(/[\p{Cc}\u2028-\u202e\u2066-\u2069]+/gu, " ");
  return plain.length > most ? `${plain.slice(0, most - 1)}…` : plain;
}

function tooLong(response: Response, url: URL, most: number): Failure {
  const message = `The body from ${withoutQuery(url)} is longer than ${most} bytes. Raise maxBody to allow it.`;
  return new Failure("http", message, { status: response.status, retryable: false });
}
