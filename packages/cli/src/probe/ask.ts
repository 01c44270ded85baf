import { performance } from "node:perf_hooks";

export interface Question {
  readonly url: URL;
  readonly method: string;
  /** What whoever asks has given. */
  readonly headers: Headers;
  /** The probe's own: what makes the second request conditional. */
  readonly condition?: Readonly<Record<string, string>>;
  readonly body?: string | undefined;
  /** Milliseconds for each request. */
  readonly timeout: number;
}

/** One answer, its body read as far as it is of use. */
export interface Answered {
  readonly asked: URL;
  /** Where the answer came from, after redirects. */
  readonly url: URL;
  readonly redirects: readonly { readonly status: number; readonly to: string }[];
  readonly status: number;
  readonly statusText: string;
  readonly headers: Headers;
  /** `undefined` where it has no end, as an event stream's. */
  readonly text: string | undefined;
  readonly bytes: number;
  readonly requestedAt: number;
  readonly receivedAt: number;
  /** Until the head was there. */
  readonly milliseconds: number;
}

/** The first answer, and the second, asked for conditionally where the first had a validator. */
export interface Pair {
  readonly method: string;
  readonly first: Answered;
  readonly second: Answered | undefined;
  readonly by: "etag" | "last-modified" | null;
}

/** Why there is no answer, in words for whoever asked. */
export class NoAnswer extends Error {}

const mostRedirects = 10;
const mostBytes = 16 * 2 ** 20;

/** Sends one request and follows its redirects. @throws NoAnswer */
export async function ask(question: Question): Promise<Answered> {
  const redirects: { status: number; to: string }[] = [];
  let { url, method, body } = question;
  for (;;) {
    const started = performance.now();
    const requestedAt = Date.now();
    const response = await send({ ...question, url, method, body });
    const to = response.headers.get("location");
    if (response.status >= 301 && response.status <= 308 && response.status !== 304 && to !== null) {
      await response.body?.cancel();
      const next = redirection(to, url, question);
      const seen = [question.url.href, ...redirects.map((each) => each.to)];
      redirects.push({ status: response.status, to: next.href });
      if (seen.includes(next.href) || redirects.length > mostRedirects) throw circle(question.url, redirects);
      // WHATWG Fetch, HTTP-redirect fetch.
      if (response.status === 303 || (response.status < 303 && method === "POST")) {
        method = "GET";
        body = undefined;
      }
      url = next;
      continue;
    }
    const milliseconds = performance.now() - started;
    const receivedAt = Date.now();
    const { text, bytes } = await bodyOf(response, question.timeout);
    const { status, statusText, headers } = response;
    return {
      asked: question.url,
      url,
      redirects,
      status,
      statusText,
      headers,
      text,
      bytes,
      requestedAt,
      receivedAt,
      milliseconds,
    };
  }
}

/** Where a redirection leads. What was given for one server is not sent to another. @throws NoAnswer */
function redirection(to: string, from: URL, { headers, body }: Question): URL {
  const next = URL.canParse(to, from) ? new URL(to, from) : undefined;
  if (!next || (next.protocol !== "http:" && next.protocol !== "https:")) {
    throw new NoAnswer(
      `${from.href} redirects to ${shortened(withoutUser(to))}, which is no address that is asked by HTTP.`,
    );
  }
  // WHATWG Fetch, HTTP-redirect fetch: none is followed that bears credentials; and none is shown.
  next.username = next.password = "";
  const given = [...[...headers].map(([name]) => name), ...(body === undefined ? [] : ["the body"])];
  if (next.origin === from.origin || given.length === 0) return next;
  throw new NoAnswer(
    `${from.href} redirects to another origin, ${next.origin}. What you gave for the first (${given.join(", ")}) is not sent there. If it is meant for that one, probe ${shortened(next.href)} itself.`,
  );
}

function withoutUser(address: string): string {
  return address.replace(/\/\/[^/?#]*@/, "//");
}

function shortened(text: string): string {
  return text.length > 200 ? `${text.slice(0, 199)}…` : text;
}

async function send({ url, method, headers, condition, body, timeout }: Question): Promise<Response> {
  try {
    return await fetch(url, {
      method,
      headers: { ...Object.fromEntries(headers), ...condition },
      redirect: "manual",
      signal: AbortSignal.timeout(timeout),
      ...(body === undefined ? {} : { body }),
    });
  } catch (thrown) {
    throw whyNot(url, thrown, timeout);
  }
}

function whyNot(url: URL, thrown: unknown, timeout: number): NoAnswer {
  if ((thrown as Error).name === "TimeoutError") {
    return new NoAnswer(`No answer came from ${url.href} within ${timeout / 1000} s. (--timeout waits longer.)`);
  }
  const { code, message } = ((thrown as Error).cause ?? thrown) as { code?: string; message: string };
  const hints: Record<string, string> = {
    ECONNREFUSED: "Nothing listens at that port. Is the server running, and is the port right?",
    ENOTFOUND: "There is no such host. Is its name spelled right?",
    EAI_AGAIN: "The host's name could not be looked up. Is there a network?",
    ECONNRESET: "The connection was cut before an answer came.",
    UND_ERR_SOCKET: "The connection was cut before an answer came.",
    "bad port": "`fetch` connects to no such port, here as in a page (WHATWG Fetch, port blocking).",
    ERR_SSL_WRONG_VERSION_NUMBER: "It does not speak TLS. Try http:// in place of https://.",
  };
  const hint = hints[code ?? message];
  return new NoAnswer(`No answer came from ${url.href} (${code ?? message}).${hint ? ` ${hint}` : ""}`);
}

function circle(from: URL, redirects: readonly { status: number; to: string }[]): NoAnswer {
  const way = redirects.slice(0, 4).map(({ status, to }) => `\n  ${status} → ${shortened(to)}`);
  const more = redirects.length > 4 ? "\n  …" : "";
  return new NoAnswer(`${from.href} redirects without end:${way.join("")}${more}`);
}

async function bodyOf(response: Response, timeout: number): Promise<{ text: string | undefined; bytes: number }> {
  if (/^text\/event-stream\b/i.test(response.headers.get("content-type") ?? "")) {
    await response.body?.cancel();
    return { text: undefined, bytes: 0 };
  }
  const chunks: Uint8Array[] = [];
  let bytes = 0;
  try {
    for await (const chunk of response.body ?? []) {
      chunks.push(chunk);
      bytes += chunk.byteLength;
      if (bytes > mostBytes) break;
    }
  } catch (thrown) {
    const seconds = timeout / 1000;
    const why = (thrown as Error).name === "TimeoutError" ? `was not complete within ${seconds} s` : "broke off";
    throw new NoAnswer(`The body from ${response.url} ${why}, after ${bytes} bytes.`);
  }
  return { text: new TextDecoder().decode(Buffer.concat(chunks)), bytes };
}
