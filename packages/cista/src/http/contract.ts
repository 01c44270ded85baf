import type { Source, SourceDefinition, Validator, Write, WriteDefinition } from "../core/index.js";

// What programs are written against: a server, and what of it is defined as a source or a write.

export interface OriginOptions {
  /** Relative URLs are resolved against it. Default: the page's own address; required outside a browser. */
  base?: string | URL;
  /** Asked before each request, so that a renewed token is picked up. */
  /**
   * Asked before each request, so that a renewed token is picked up; `context` is what `createCache` was given. Only the
   * program's own origin gets them: that of `base`, else the page's, and those of `trust`. Keep it quick: where an answer
   * varies by them, they are also asked before it is shown, so that what one user got is not shown to another.
   */
  headers?:
    | HeadersInit
    | ((request: { url: URL; method: string; context: unknown }) => HeadersInit | Promise<HeadersInit>);
  credentials?: RequestCredentials;
  /** Further origins that get `headers` and credentials, and that writes may go to. Default: none. */
  trust?: readonly (string | URL)[];
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

/** All pages loaded so far, as one list. */
export interface Pages<T> {
  readonly items: readonly T[];
  /** How many items these are. */
  readonly count: number;
  /** The server has more behind them. */
  readonly hasNext: boolean;
  /** What the list was put together from, in order; `count` of them each. */
  readonly pages: readonly Page[];
}

/** One page of a list: where it came from, how many items are left of it, where the next one is; paths at the list's own origin. */
export interface Page {
  readonly url: string;
  readonly count: number;
  readonly next?: string;
  readonly validator?: Validator;
}

export interface PagesDefinition<P, T> extends Policy<P, Pages<T>> {
  url: Url<P>;
  headers?: HeadersInit;
  /** From the parsed body to the page's items. Default: the body is the array itself. */
  unwrap?(body: any): readonly T[];
  /** Where the next page is. Default: `Link: rel="next"` (RFC 8288). Only the list's own origin is followed. */
  next?(body: any, response: Response): string | URL | undefined;
  /** By what an item is known again when it moves. Default: its `id`, else its whole content. */
  id?(item: T): unknown;
}

export interface EventsDefinition<P, T> extends Policy<P, T> {
  url: Url<P>;
  /** The value before the first event; copied for each stream. */
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
  /** Also to another origin, which then gets the body and the Idempotency-Key; in a page any redirection. Default false: outside of pages those within the origin are followed. */
  followRedirects?: boolean;
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
   * A list in pages: `appendPage` loads the next one. Revalidating asks for the first page, and for more of them only as
   * far as something changed; a page behind that is taken to be as it was.
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
