import { CistaError, type Source, type SourceDefinition, source } from "../core/index.js";
import { writeBy } from "../core/internal.js";
import { absolute, urlLabel } from "./address.js";
import type { HttpSourceDefinition, Origin, OriginOptions, Policy, Url } from "./contract.js";
import { documentText } from "./document.js";
import type { Server } from "./exchange.js";
import { load, urlFor } from "./load.js";
import { pagesSource } from "./pages.js";
import { isTrusted } from "./reach.js";
import { Renewals } from "./renewal.js";
import { CommonFields, saysTheSame } from "./varies.js";

/** One server, described once. Sends nothing. @throws CistaError code "base" for a base that is no absolute URL */
export function origin(options: OriginOptions = {}): Origin {
  const server = {
    ...options,
    base: options.base === undefined ? undefined : absolute(options.base),
    renewals: options.renew && new Renewals(options.renew),
  } as Server & { common: CommonFields };
  server.common = new CommonFields(server);
  const policyOf = (definition: Policy & { url?: Url<any> }) => ({
    ...hooksOf(server, definition as HttpSourceDefinition<any, any>),
    ...ownPolicyOf(definition),
  });
  const made = (definition: Policy & { url?: Url<any> }, rest: object): Source<any, any> =>
    source({ ...policyOf(definition), ...rest } as SourceDefinition<any, any, any>);
  return {
    source: (definition: any) =>
      made(definition, { load: (params: unknown, context: any) => load(server, definition, params, context) }),
    pages: (definition: any) => pagesSource(server, definition, policyOf(definition)),
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
      const { method, url, body, headers, unwrap, followRedirects, idempotencyKey, ...rest } = definition;
      void sender(); // a program that defines one will run it
      return writeBy<any, any>(sender, {
        ...rest,
        send: async (input, context) => (await import("./send.js")).send(server, definition, input, context),
      });
    },
  };
}

type Sender = typeof import("../core/sender.js").runWrite;
let runWrite: Sender | undefined;

async function loadSender(): Promise<Sender> {
  ({ runWrite } = await import("../core/sender.js"));
  return runWrite;
}

/** At once where it is there already. */
function sender(): Sender | Promise<Sender> {
  return runWrite ?? loadSender();
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
    fits(this: void, varies: Readonly<Record<string, string>>, params: unknown, context: unknown): boolean {
      const url = urlFor(server, definition, params);
      if (!isTrusted(server, url, typeof named === "function" ? undefined : named)) return true; // nothing was said there
      const now = server.common.now(url, method, context);
      for (const [name, value] of new Headers(headers)) now?.set(name, value);
      return saysTheSame(varies, now);
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
