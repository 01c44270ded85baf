import { CistaError, type Source, type SourceDefinition, source, write } from "../core/index.js";
import { absolute, isOwnOrigin, resolved, urlLabel } from "./address.js";
import { Askers } from "./asker.js";
import type { HttpSourceDefinition, HttpWriteDefinition, Origin, OriginOptions, Policy, Url } from "./contract.js";
import { documentText } from "./document.js";
import type { Server } from "./exchange.js";
import { load, urlFor } from "./load.js";
import { pagesSource } from "./pages.js";
import { isTrusted } from "./reach.js";
import { Renewals } from "./renewal.js";
import { send } from "./send.js";

/** One server, described once. Sends nothing. @throws CistaError code "base" for a base that is no absolute URL */
export function origin(options: OriginOptions = {}): Origin {
  const server = {
    ...options,
    base: options.base === undefined ? undefined : absolute(options.base),
    renewals: options.renew && new Renewals(options.renew),
  } as Server & { askers: Askers };
  server.askers = new Askers(server);
  const policyOf = (definition: Policy & { url?: Url<any> }) => ({
    ...hooksOf(server, definition as HttpSourceDefinition<any, any>),
    ...ownPolicyOf(definition),
  });
  const made = (definition: Policy & { url?: Url<any> }, rest: object): Source<any, any> => {
    refuseHeadersOfParams(definition);
    return source({ ...policyOf(definition), ...rest } as SourceDefinition<any, any, any>);
  };
  return {
    source: (definition: any) =>
      made(definition, { load: (params: unknown, context: any) => load(server, definition, params, context) }),
    pages: (definition: any) => {
      refuseHeadersOfParams(definition);
      return pagesSource(server, definition, policyOf(definition));
    },
    // What only some programs use comes when it is first used: the parser of event streams is as large as all of the rest.
    events: (definition: any) =>
      made(
        { retry: { times: Number.POSITIVE_INFINITY }, ...definition },
        {
          load: async function* (params: unknown, context: any) {
            const { follow } = await import("./events.js");
            yield* follow(server, definition, params, context);
          },
        },
      ),
    graphql: (definition: any) => {
      documentText(definition); // refuses what cannot be where it was written
      return made(definition, {
        load: async (params: unknown, context: any) =>
          (await import("./graphql.js")).query(server, definition, params, context),
      });
    },
    write: (definition: any) => {
      refuseNoUrl(definition);
      refuseHeadersOfParams(definition);
      refuseNoKey(server, definition);
      const { method, url, body, headers, unwrap, followRedirects, idempotencyKey, ...rest } = definition;
      const { user } = server;
      return write<any, any>({
        ...(user ? { user: (context: unknown) => user({ context }) } : {}),
        ...rest,
        send: (input, context) => send(server, definition, input, context),
      });
    },
  };
}

/**
 * Rule O3: a kept write is tried by several pages, and the server has to be able to tell that it is one.
 * @throws CistaError code "write" for one that could not bear an Idempotency-Key
 */
function refuseNoKey(server: Server, { name, url, kept, idempotencyKey }: HttpWriteDefinition<any, any>): void {
  if (!kept || idempotencyKey === true) return;
  const fixed = typeof url === "function" ? server.base : resolved(url, server.base, name);
  if (idempotencyKey === undefined && (!fixed || isOwnOrigin(fixed))) return;
  throw new CistaError(
    "write",
    DEVELOPMENT &&
      `The write "${name}" is kept, so it may be sent several times, and needs an Idempotency-Key. ${idempotencyKey === false ? "Leave idempotencyKey out, or write idempotencyKey: true." : `Its server is ${fixed?.origin}: where that allows the field Idempotency-Key (CORS, Access-Control-Allow-Headers), write idempotencyKey: true.`}`,
  );
}

/** @throws CistaError code "headers": a function would be taken for no fields at all */
function refuseHeadersOfParams({ name, headers }: { name: string; headers?: unknown }): void {
  if (typeof headers !== "function") return;
  throw new CistaError(
    "headers",
    DEVELOPMENT &&
      `headers of "${name}" is a function, and here it is header fields: { "accept-language": "en" }. A function of the request is taken by origin({ headers }).`,
  );
}

/** @throws CistaError code "url" for a definition without one */
function refuseNoUrl({ name, url }: { name: string; url?: unknown }): void {
  if (typeof url === "string" || typeof url === "function" || url instanceof URL) return;
  throw new CistaError(
    "url",
    DEVELOPMENT &&
      `"${name}" needs a url: text, a URL, or a function that makes one of the params, but it is ${String(url)}.`,
  );
}

/** What the core asks about an entry without a request: its URL's label, and whether its answer is for whoever asks now. */
function hooksOf(server: Server, definition: HttpSourceDefinition<any, any> & { document?: unknown }) {
  const { url: named, headers, method = definition.document === undefined ? "GET" : "POST" } = definition;
  return {
    labels: (params: unknown): string[] => {
      try {
        return [urlLabel(urlFor(server, definition, params))];
      } catch {
        return []; // no URL can be made: nothing can have been asked there
      }
    },
    fits(this: void, varies: Record<string, string>, params: unknown, context: unknown): boolean {
      try {
        const url = urlFor(server, definition, params);
        if (!isTrusted(server, url, typeof named === "function" ? undefined : named)) return true; // nothing was said there
        return server.askers.fits(varies, { url, method, context }, headers);
      } catch {
        return false; // who asks is not known; whoever asks is told what was thrown
      }
    },
  };
}

/** What of a definition is the core's. */
function ownPolicyOf<D extends Policy & { url?: Url<any>; variables?: unknown }>(definition: D): D {
  refuseNoUrl(definition);
  const { url, headers, method, body, parse, unwrap, next, previous, id, start, reduce, ...rest } = definition as any;
  const { document, variables, partial, heuristic, ...policy } = rest;
  const takesNone =
    !(typeof url === "function" && url.length > 0) &&
    document === undefined &&
    (method === undefined || method === "GET" || body?.length === 0);
  return { ...policy, ...(takesNone ? { params: false } : {}) };
}
