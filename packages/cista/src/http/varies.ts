import type { Server } from "./exchange.js";

/**
 * RFC 9111 §4.1: what the request said in the fields by which the answer varies, as digests. `Authorization` counts
 * wherever it was sent: what one user got is not another's. Of the fields that a browser adds by itself nothing is known.
 */
export function variesOf(sent: Headers, vary: string | null): Record<string, string> | undefined {
  const names = new Set((vary ?? "").split(",").map((name) => name.trim().toLowerCase()));
  if (sent.has("authorization")) names.add("authorization");
  names.delete("");
  names.delete("*"); // fits nothing, and is asked about each time: see freshness.ts
  if (names.size === 0) return undefined;
  return Object.fromEntries([...names].sort().map((name) => [name, digest(sent.get(name) ?? "")]));
}

/** Whether a request with these fields would say the same. @param now undefined where it is not known what it would say */
export function saysTheSame(varies: Readonly<Record<string, string>>, now: Headers | undefined): boolean {
  if (!now) return false;
  return Object.entries(varies).every(([name, said]) => digest(now.get(name) ?? "") === said);
}

/** 53 bits by which two texts are told apart, and from which neither can be had back: a token is not kept by them. */
function digest(text: string): string {
  let high = 0xdeadbeef;
  let low = 0x41c6ce57;
  for (let at = 0; at < text.length; at++) {
    const code = text.charCodeAt(at);
    high = Math.imul(high ^ code, 2654435761);
    low = Math.imul(low ^ code, 1597334677);
  }
  high = Math.imul(high ^ (high >>> 16), 2246822507) ^ Math.imul(low ^ (low >>> 13), 3266489909);
  low = Math.imul(low ^ (low >>> 16), 2246822507) ^ Math.imul(high ^ (high >>> 13), 3266489909);
  return (4294967296 * (2097151 & low) + (high >>> 0)).toString(36);
}

/** So many URLs' fields are remembered, for servers whose `headers` take their time. */
const mostRemembered = 200;

/** What a server's `headers` say now for a request, where that can be told at once; else what they last said for its URL. */
export class CommonFields {
  readonly #server: Server;
  readonly #last = new Map<string, Headers>();

  constructor(server: Server) {
    this.#server = server;
  }

  /** For a request that is made now. */
  async ask(url: URL, method: string, context: unknown): Promise<Headers> {
    const { headers } = this.#server;
    const said = new Headers(typeof headers === "function" ? await headers({ url, method, context }) : headers);
    this.#remember(url, said);
    return said;
  }

  /** Without a request. @returns undefined where nobody knows yet */
  now(url: URL, method: string, context: unknown): Headers | undefined {
    const { headers } = this.#server;
    if (typeof headers !== "function") return new Headers(headers);
    const said = headers({ url, method, context });
    if (!(said instanceof Promise)) return new Headers(said);
    said.then(
      (later) => this.#remember(url, new Headers(later)),
      () => {},
    );
    return this.#last.get(url.href);
  }

  #remember(url: URL, said: Headers): void {
    this.#last.delete(url.href);
    this.#last.set(url.href, said);
    for (const [oldest] of this.#last) if (this.#last.size > mostRemembered) this.#last.delete(oldest);
  }
}
