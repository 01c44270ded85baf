import type { LoadContext, SendContext, Validator } from "../core/index.js";
import { isOwnOrigin } from "./address.js";
import { headersOf, type Said, setFields } from "./asker.js";
import { isEntityTag } from "./details.js";
import { httpFailure } from "./problem.js";
import { isTrusted, refuseForeignWrite } from "./reach.js";
import { fetched, redirectionFailure, redirectionOf } from "./response.js";
import type { Ask, Exchange, Server } from "./server.js";

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
  const headers = setFields(new Headers(said), Object.entries(ask.fields ?? {}));
  if (trusted && ask.headers) for (const all of [headers, said]) setFields(all, headersOf(ask.headers));
  const isOneUsers = trusted && server.askers.isOneUsers(who);
  const { mode = "no-store" } = context;
  const isChecked = isOneUsers && mode === "default";
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
    // Rule S6: the browser's cache tells no user from another, so what may be one user's is checked with the server.
    cache: own || mode === "no-store" ? "no-store" : ask.isAnothers ? "reload" : isChecked ? "no-cache" : mode,
  };
  const requestedAt = context.now();
  const { response, landed } = await answered(server, ask, init);
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

/**
 * An answer, and where it came from. In a page the browser follows the redirections of a read, and says of none where it leads;
 * elsewhere they are followed by a file of its own, which no page needs.
 */
async function answered(server: Server, ask: Ask, given: RequestInit): Promise<{ response: Response; landed: URL }> {
  const { url } = ask;
  const isRead = (given.method ?? "GET") === "GET";
  const byBrowser = globalThis.location !== undefined && (isRead || ask.followAnywhere === true);
  const init: RequestInit = { ...given, redirect: byBrowser ? "follow" : "manual" };
  const response = await fetched(server, ask, url, init);
  if (response.type === "opaqueredirect") {
    const advice =
      ", and a browser does not say where to. Name the URL that it leads to, or allow it: followRedirects: true";
    throw redirectionFailure(url, `redirects${DEVELOPMENT ? advice : ""}`);
  }
  if (byBrowser) return { response, landed: response.url ? new URL(response.url) : url };
  if (!redirectionOf(response, url)) return { response, landed: url };
  const { follow } = await import("./redirections.js");
  return follow(server, ask, init, response);
}
