import {
  CistaError,
  type Source,
  type SourceDefinition,
  source,
  type Write,
  type WriteDefinition,
  writeBy,
} from "../core/index.js";
import { absolute } from "./address.js";
import { documentText } from "./document.js";
import type { Server } from "./exchange.js";
import { load } from "./load.js";
import { type Pages, pagesSource } from "./pages.js";

export interface OriginOptions {
  /** Relative URLs are resolved against it. Default: the page's own address; required outside a browser. */
  base?: string | URL;
  /** Asked before each request, so that a renewed token is picked up. */
  headers?: HeadersInit | ((request: { url: URL; method: string }) => HeadersInit | Promise<HeadersInit>);
  credentials?: RequestCredentials;
  /** Default `globalThis.fetch`, looked up at each call. */
  fetch?: typeof fetch;
  /** Refuse bodies longer than this many bytes (a `Failure`, kind "http"). Default 16 MiB. */
  maxBody?: number;
}

export type Url<P> = string | URL | ((params: P) => string | URL);

/** All that a source of any kind may say, but for its load. */
export interface Policy<P = any, T = any> extends Omit<SourceDefinition<P, any, T>, "load" | "network"> {
  /**
   * Where the response states no lifetime, a tenth of the time since its Last-Modified, a day at most (RFC 9111 §4.2.2).
   * Default false: then the source's own `maxAge` counts.
   */
  heuristic?: boolean;
}

export interface HttpSourceDefinition<P, T> extends Policy<P, T> {
  url: Url<P>;
  headers?: HeadersInit;
  /** From the response to the body. Default: JSON. */
  parse?(response: Response): Promise<unknown>;
  /** From the parsed body to the value, e.g. out of an envelope. */
  unwrap?(body: any): T;
}

export interface PagesDefinition<P, T> extends Policy<P, Pages<T>> {
  url: Url<P>;
  headers?: HeadersInit;
  /** From the parsed body to the part's items. Default: the body is the array itself. */
  unwrap?(body: any): readonly T[];
  /** Where the next part is. Default: `Link: rel="next"` (RFC 8288). Only the part's own origin is followed. */
  next?(body: any, response: Response): string | URL | undefined;
  /** By what an item is known again when it moves. Default: its `id`, else its whole content. */
  id?(item: T): unknown;
}

export interface EventsDefinition<P, T> extends Policy<P, T> {
  url: Url<P>;
  /** The value before the first event. */
  start: T;
  /** The value after one more event; `type` is "message" where the server names none. */
  reduce(value: T, event: { type: string; data: string; id?: string }): T;
}

export interface GraphqlDefinition<P, T> extends Policy<P, T> {
  url: string | URL;
  /** Text, or what becomes text: a typed document. */
  document: string | { toString(): string };
  /** Default: the params themselves. */
  variables?(params: P): object;
  /** From `data` to the value. */
  unwrap?(data: any): T;
  /** Keep data that came beside errors; the failure stands beside it in the reading. Default false: then it is a failure. */
  partial?: boolean;
}

export interface HttpWriteDefinition<I, R> extends Omit<WriteDefinition<I, R>, "send"> {
  method: "POST" | "PUT" | "PATCH" | "DELETE";
  url: Url<I>;
  /** Default: the input, but nothing with DELETE. As JSON, unless it is something that `fetch` sends as it is. */
  body?(input: I): unknown;
  headers?: HeadersInit;
  /** From the parsed body to the result. Default: the body, or undefined where it is not JSON. */
  unwrap?(body: any): R;
}

/** A document that knows the type of its data and of its variables. */
export interface TypedDocument<T, V> {
  toString(): string;
  __apiType?: (variables: V) => T;
}

/** One server, as sources. What its responses say of their freshness is honoured; what a definition says itself wins. */
export interface Origin {
  /**
   * GET. 2xx: the body, as JSON unless `parse` says otherwise; 304: unchanged; 404, 410: missing; anything else: a
   * `Failure` of kind "http". Honoured are Cache-Control, Age, Date, Expires, Vary: * (RFC 9111), stale-* (RFC 5861),
   * immutable (RFC 8246), ETag and Last-Modified (RFC 9110 §8.8), Retry-After (§10.2.3), Cache-Groups (RFC 9875) and
   * problem bodies (RFC 9457).
   */
  source<P = void, T = unknown>(definition: HttpSourceDefinition<P, T>): Source<P, T>;
  /**
   * A list in parts: `appendPage` loads the next one. Revalidating asks for the first part, and for more of them only as
   * far as something changed; a part behind that is taken to be as it was.
   */
  pages<P = void, T = unknown>(definition: PagesDefinition<P, T>): Source<P, Pages<T>>;
  /**
   * Server-sent events (WHATWG HTML §9.2) as a live source: `reduce` folds each event into the value. Resumes by
   * Last-Event-ID, obeys `retry:`, and by default goes on trying for as long as somebody watches.
   */
  events<P = void, T = unknown>(definition: EventsDefinition<P, T>): Source<P, T>;
  /** GraphQL over HTTP, by POST. Errors without data, or not allowed beside it, are a `Failure` of kind "graphql" with `errors`. */
  graphql<T, V extends object>(
    definition: Omit<GraphqlDefinition<V, T>, "document" | "variables" | "unwrap"> & { document: TypedDocument<T, V> },
  ): Source<V, T>;
  graphql<P = void, T = unknown>(definition: GraphqlDefinition<P, T>): Source<P, T>;
  /**
   * POST, PUT, PATCH, DELETE. Sends `Idempotency-Key`; a refusal is a `Failure` of kind "http" with its problem
   * (RFC 9457). What the answer names is invalidated: its URL, `Location`, `Content-Location` (RFC 9111 §4.4) and the
   * groups of `Cache-Group-Invalidation` (RFC 9875 §3), of the same origin.
   */
  write<I = void, R = unknown>(definition: HttpWriteDefinition<I, R>): Write<I, R>;
}

/** One server, described once. Sends nothing. @throws CistaError code "base" for a base that is no absolute URL */
export function origin(options: OriginOptions = {}): Origin {
  const server: Server = { ...options, base: options.base === undefined ? undefined : absolute(options.base) };
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
      const { method, url, body, headers, unwrap, ...rest } = definition;
      void sender(); // a program that defines one will run it
      return writeBy<any, any>(sender, {
        ...rest,
        send: async (input, context) => (await import("./send.js")).send(server, definition, input, context),
      });
    },
  };
}

type Sender = typeof import("../core/work/sender.js").runWrite;
let runWrite: Sender | undefined;

async function loadSender(): Promise<Sender> {
  ({ runWrite } = await import("../core/work/sender.js"));
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
    `"${name}" needs a url: text, a URL, or a function that makes one of the params, but it is ${String(url)}.`,
  );
}

/** What of a definition is the core's. */
function policyOf<D extends Policy & { url?: Url<any>; variables?: unknown }>(definition: D): D {
  refuseNoUrl(definition);
  const { url, headers, parse, unwrap, next, id, start, reduce, document, variables, partial, heuristic, ...policy } =
    definition as any;
  const takesNone = !(typeof url === "function" && url.length > 0) && document === undefined;
  return { ...policy, ...(takesNone ? { params: false } : {}) };
}
