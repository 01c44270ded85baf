import { Failure, type LoadContext, type SendContext, type Validator } from "../core/index.js";
import { isOwnOrigin, withoutQuery } from "./address.js";
import { headersOf, type Said } from "./asker.js";
import { isEntityTag } from "./details.js";
import { httpFailure } from "./problem.js";
import { isTrusted, refuseForeignWrite } from "./reach.js";
import type { Ask, Exchange, Server } from "./server.js";

/** Redirections are followed so often (WHATWG Fetch, HTTP-redirect fetch). */
const mostRedirections = 20;

type Context = Pick<LoadContext, "signal" | "context" | "now"> &
  Partial<Pick<LoadContext, "held" | "mode" | "partition" | "userChanged">> &
  Pick<SendContext, "refuseOtherUser">;

/**
 * One request; where its token is refused and can be renewed, once more with the new one.
 * @throws Failure kind "network" where no answer came; CistaError code "untrusted-origin" for a write to an unnamed origin
 */
export async function exchange(server: Server, ask: Ask, context: Context): Promise<Exchange> {
  const { renewals } = server;
  const before = renewals?.count(context.context) ?? 0;
  const first = await exchangeOnce(server, ask, context);
  if (!renewals || first.response.status !== 401 || !isTrusted(server, ask.url, ask.named)) return first;
  const target = { url: ask.url, method: ask.method ?? "GET", context: context.context };
  const refused = first.sent.get("authorization");
  const isCurrent = (await server.askers.tokenNow(target)) === refused; // else somebody has signed in meanwhile, or another request renewed it
  try {
    await renewals.renewed(context.context, before);
  } catch (cause) {
    throw Object.assign(await httpFailure(first), { cause });
  }
  context.signal.throwIfAborted(); // after a sign-out the new token is not the same user's
  if (isCurrent) server.askers.renewed(context.context, refused, await server.askers.tokenNow(target));
  await first.response.body?.cancel();
  return exchangeOnce(server, isCurrent ? ask : { ...ask, held: undefined, isAnothers: true }, context);
}

async function exchangeOnce(server: Server, ask: Ask, context: Context): Promise<Exchange> {
  const { url, method = "GET", held } = ask;
  const trusted = isTrusted(server, url, ask.named);
  if (!trusted && method !== "GET") refuseForeignWrite(ask.name, url);
  const own = isOwnOrigin(url);
  const condition = own ? conditionOf(held) : undefined;
  const target = { url, method, context: context.context };
  const who = trusted ? await server.askers.ask(target, context.userChanged) : nobody();
  context.refuseOtherUser?.(); // who may have come while the fields were made
  const said = who.fields;
  const headers = new Headers(said);
  for (const [field, text] of Object.entries(ask.fields ?? {})) headers.set(field, text);
  if (trusted && ask.headers) {
    const own = headersOf(ask.headers);
    addAll(headers, own);
    addAll(said, own);
  }
  const isOneUsers = trusted && server.askers.isOneUsers(who);
  const { mode = "no-store" } = context;
  const isChecked = isOneUsers && mode === "default" && !context.held;
  if (condition === "etag") headers.set("if-none-match", held?.etag ?? "");
  else if (condition === "last-modified") headers.set("if-modified-since", held?.lastModified ?? "");
  const init: RequestInit = {
    method,
    headers,
    signal: context.signal,
    ...(ask.body === undefined ? {} : { body: ask.body }),
    ...(ask.keepalive ? { keepalive: true } : {}),
    ...(trusted ? (server.credentials ? { credentials: server.credentials } : {}) : { credentials: "omit" }),
    // Here Cista is the cache, and its 304s are to be seen; across origins the browser's own does the asking,
    // because a condition of ours would cost a preflight (Fetch, CORS-safelisted request headers).
    // Rule S6: the browser's cache tells no user from another, so the first answer of a key is checked with the server.
    cache: own || mode === "no-store" ? "no-store" : ask.isAnothers ? "reload" : isChecked ? "no-cache" : mode,
  };
  const requestedAt = context.now();
  const { response, landed } = await new Redirections(server, ask, init).follow(url);
  const receivedAt = context.now();
  const varies = server.askers.variesOf(who, response, context);
  const maxBody = maxBodyOf(server);
  return {
    url,
    landed,
    response,
    condition,
    held,
    varies,
    sent: headers,
    isOneUsers,
    requestedAt,
    receivedAt,
    maxBody,
  };
}

/** Who asks a server that a program's headers are not for. */
const nobody = (): Said => ({ fields: new Headers(), id: undefined });

export function maxBodyOf({ maxBody = 16 * 2 ** 20 }: Pick<Server, "maxBody">): number {
  return maxBody;
}

/** RFC 9110 §13.1.2, §13.1.3: an entity tag where there is one, else the date. */
export function conditionOf(held: Validator | undefined): Exchange["condition"] {
  if (held?.etag && isEntityTag(held.etag)) return "etag";
  return held?.lastModified ? "last-modified" : undefined;
}

function addAll(headers: Headers, more: Headers): void {
  more.forEach((value, name) => {
    headers.set(name, value);
  });
}

/**
 * A request with the redirections that it is answered by. In a page the browser follows those of a read, and says of none
 * where it leads; elsewhere they are followed here, and headers that a program has for its own server stay with that.
 */
class Redirections {
  readonly #server: Server;
  readonly #ask: Ask;
  readonly #init: RequestInit;

  constructor(server: Server, ask: Ask, init: RequestInit) {
    this.#server = server;
    this.#ask = ask;
    this.#init = init;
  }

  async follow(url: URL): Promise<{ response: Response; landed: URL }> {
    const inPage = globalThis.location !== undefined;
    const byBrowser = inPage && (this.#isRead || this.#ask.followAnywhere === true);
    let landed = url;
    let init: RequestInit = { ...this.#init, redirect: byBrowser ? "follow" : "manual" };
    for (let count = 0; ; count++) {
      const response = await this.#send(landed, init);
      if (response.type === "opaqueredirect") throw this.#hidden();
      const next = redirectionOf(response, landed);
      if (!next || byBrowser) return { response, landed: byBrowser && response.url ? new URL(response.url) : landed };
      await response.body?.cancel();
      if (count >= mostRedirections) throw this.#failure(`redirects more than ${mostRedirections} times`);
      init = this.#redirected(init, response.status, landed, next);
      landed = next;
    }
  }

  get #isRead(): boolean {
    return (this.#init.method ?? "GET") === "GET";
  }

  /** WHATWG Fetch, HTTP-redirect fetch: the parts of the request that go on to the new target. */
  #redirected(init: RequestInit, status: number, from: URL, next: URL): RequestInit {
    if (next.protocol !== "http:" && next.protocol !== "https:") throw this.#failure(`redirects to ${next.protocol}`);
    const foreign = next.origin !== from.origin && !isTrusted(this.#server, next, this.#ask.named);
    if (foreign && !this.#isRead && this.#ask.followAnywhere !== true) {
      throw this.#failure(
        `redirects to another origin, ${next.origin}, which is not followed. Allow it: followRedirects: true`,
        status,
      );
    }
    const toGet = status === 303 || (status < 303 && init.method === "POST");
    const { body, ...rest } = init;
    const kept = toGet ? { ...rest, method: "GET" } : init;
    if (!foreign) return kept;
    return { ...kept, headers: new Headers(this.#ask.fields), credentials: "omit" };
  }

  async #send(url: URL, init: RequestInit): Promise<Response> {
    init.signal?.throwIfAborted(); // while the fields were made, perhaps
    try {
      return await (this.#ask.fetch ?? this.#server.fetch ?? globalThis.fetch)(url, init);
    } catch (cause) {
      throw init.signal?.aborted || !(cause instanceof TypeError) ? cause : noAnswer(url, isOwnOrigin(url), cause);
    }
  }

  #hidden(): Failure {
    return this.#failure(
      "redirects, and a browser does not say where to. Name the URL that it leads to, or allow it: followRedirects: true",
    );
  }

  #failure(what: string, status?: number): Failure {
    return new Failure("http", `${withoutQuery(this.#ask.url)} ${what}.`, { status, retryable: false });
  }
}

function redirectionOf({ status, headers }: Response, from: URL): URL | undefined {
  const to = headers.get("location");
  if (to === null || ![301, 302, 303, 307, 308].includes(status) || !URL.canParse(to, from)) return undefined;
  return new URL(to, from);
}

/** `fetch` tells a program no more than that: in a page a refusal by CORS looks like a server that is not there. */
function noAnswer(url: URL, own: boolean, cause: TypeError): Failure {
  const inner = cause.cause as { code?: string; message?: string } | undefined;
  const why = inner?.code ?? inner?.message ?? cause.message;
  const cors = own ? "" : " It may not be reachable, or not let this page read it (CORS): the console says which.";
  return new Failure("network", `No answer came from ${withoutQuery(url)}: ${why}.${cors}`, { cause });
}
