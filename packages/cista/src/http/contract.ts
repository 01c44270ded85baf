import type {
  Known,
  OutputOf,
  Source,
  SourceDefinition,
  StandardSchema,
  Validator,
  WriteDefinition,
} from "../core/index.js";

// The contract for programs: a server, and its sources and writes.

/** Header fields, as `fetch` takes them. A field whose text is undefined is left out. */
export type HeaderFields = HeadersInit | Readonly<Record<string, string | undefined>>;

/** Header fields of one source or write: fixed, or made of its params. */
export type HeadersOf<P> = HeaderFields | ((params: P) => HeaderFields);

export interface OriginOptions {
  /** Relative URLs are resolved against it. Default: the page's own address; required outside a browser. */
  base?: string | URL;
  /**
   * Called before each request, so that a renewed token is picked up; `context` is the one of `createCache`. Only the
   * program's own origin gets them: that of `base`, else the page's, and those of `trust`. Keep it quick: where an answer
   * varies by them, they are also called before it is shown, so that one user's answer is not shown to another.
   */
  headers?:
    | HeaderFields
    | ((request: { url: URL; method: string; context: unknown }) => HeaderFields | Promise<HeaderFields>);
  /**
   * The present user: an id that stays the same over all tokens of one user; undefined where no user is signed in. One user's
   * answer is not held for another; stores and tabs keep it for that user. Called whenever a value is looked at: the id has to be
   * at hand.
   * Needless for a cache with a `partition`. Default: each `Authorization` is another user's, but for the one that `renew`
   * brings; answers to it stay in this page's memory.
   * @example origin({ user: () => session?.userId, headers: () => ({ authorization: `Bearer ${session?.token}` }) })
   */
  user?(request: { context: unknown }): string | undefined;
  credentials?: RequestCredentials;
  /**
   * Called when a request that carried `headers` is answered by 401 (RFC 9110 §15.5.2): gets a new token, for `headers` to
   * return. One renewal at a time for all requests that need it; each of them is made once more after it, and no more than
   * once. Where it rejects, or the answer is 401 again, the 401 is the `Failure`. `context` is the one of `createCache`.
   * It sends its own requests by `fetch`: a request of this origin would wait for the renewal that it is part of.
   * @example origin({ headers: () => ({ authorization: `Bearer ${token}` }), renew: async () => { token = await newToken(); } })
   */
  renew?(request: { context: unknown }): Promise<unknown>;
  /** Further origins that get `headers` and credentials, and that writes may go to. Default: none. */
  trust?: readonly (string | URL)[];
  /** Default `globalThis.fetch`, looked up at each call. */
  fetch?: typeof fetch;
  /** Refuse bodies longer than this many bytes (a `Failure`, kind "http"). Default 16 MiB. */
  maxBody?: number;
}

export type Url<P> = string | URL | ((params: P) => string | URL);

/** All that a source of any kind may say, but for its load. */
export interface SourceOptions<P = any, T = any> extends Omit<SourceDefinition<P, any, T>, "load" | "network"> {
  /**
   * Where the response states no lifetime, a tenth of the time since its Last-Modified, a day at most (RFC 9111 §4.2.2).
   * Default false: then the source's own `maxAge` counts.
   */
  heuristic?: boolean;
}

/** @typeParam B the result of `parse` */
export interface HttpSourceDefinition<P, T, B = any> extends SourceOptions<P, T> {
  url: Url<P>;
  /** Beside the origin's own. Where they are made of params, answers vary by each of them (RFC 9111 §4.1). */
  headers?: HeadersOf<P>;
  /** QUERY and POST send a `body`: a search that does not fit into a URL. Its answer is cached like any value. Default "GET". */
  method?: "GET" | "QUERY" | "POST";
  /** The body of QUERY and POST, or a promise of it. Default: the params. As JSON, unless it is of a type that `fetch` sends as it is. */
  body?(params: P): unknown;
  /** From the response to the body. Default: JSON. */
  parse?(response: Response): Promise<B>;
  /** From the parsed body to the value, e.g. out of an envelope. */
  unwrap?(body: B): T;
}

/** Of `check` the value has its type, whatever `parse` and `unwrap`, which come before it, are said to return. */
export type CheckedHttpSourceDefinition<P, S> = Omit<
  HttpSourceDefinition<P, Known<OutputOf<S>>>,
  "check" | "unwrap"
> & { check: S; unwrap?(body: any): unknown };

/** All pages loaded so far, as one list. */
export interface Pages<T> {
  readonly items: readonly T[];
  /** How many items these are. */
  readonly count: number;
  /** The server has more behind them. */
  readonly hasNext: boolean;
  /** The server has more before them. */
  readonly hasPrevious: boolean;
  /** The pages of the list, in order; each with the `count` of its items. */
  readonly pages: readonly ListPage[];
}

/** One page of a list: where it came from, how many items are left of it, where its neighbours are; paths at the list's own origin. */
export interface ListPage {
  readonly url: string;
  readonly count: number;
  readonly next?: string;
  readonly previous?: string;
  readonly validator?: Validator;
}

export interface PagesDefinition<P, T> extends SourceOptions<P, Pages<T>> {
  url: Url<P>;
  headers?: HeadersOf<P>;
  /** From the parsed body to the page's items. Default: the body is the array itself. */
  unwrap?(body: any): readonly T[];
  /** Where the next page is. Default: `Link: rel="next"` (RFC 8288). Only the list's own origin is followed. */
  next?(body: any, response: Response, params: P): string | URL | null | undefined;
  /** Where the page before the first one is, for a list that begins in the middle. Default: `Link: rel="prev"`. */
  previous?(body: any, response: Response, params: P): string | URL | null | undefined;
  /** The identity of an item, by which it is known again when it moves. Default: its `id`, else its whole content. */
  id?(item: T): unknown;
}

export interface EventsDefinition<P, T> extends SourceOptions<P, T> {
  url: Url<P>;
  /** The value before the first event; copied for each stream. */
  start: T;
  /** The value after one more event; `type` is "message" where the server names none. */
  reduce(value: T, event: { type: string; data: string; id?: string }): T;
}

export interface GraphqlDefinition<P, T> extends SourceOptions<P, T> {
  url: string | URL;
  /** Text, or an object that becomes text: a typed document. */
  document: string | { toString(): string };
  /** Default: the params themselves. */
  variables?(params: P): object;
  /** From `data` to the value. */
  unwrap?(data: any): T;
  /** Where the first member of `data` is null, without an error, there is no such thing: the entry is `missing`. Default false. */
  nullIsMissing?: boolean;
  /** Keep data that came beside errors; the failure stands beside it in the reading. Default false: then it is a failure. */
  partial?: boolean;
}

export interface HttpWriteDefinition<I, R> extends Omit<WriteDefinition<I, R>, "send"> {
  method: "POST" | "PUT" | "PATCH" | "DELETE";
  url: Url<I>;
  /**
   * Default: the input, but nothing with DELETE. As JSON, unless it is of a type that `fetch` sends as it is. May be a promise of
   * that, such as for a photo that is made smaller first. A stream is refused, since it can be sent once only: code "invalid-body".
   */
  body?(input: I): unknown;
  /** Beside the origin's own. */
  headers?: HeadersOf<I>;
  /** Also to another origin, which then gets the body and the Idempotency-Key; in a page any redirection. Default false: outside of pages those within the origin are followed. */
  followRedirects?: boolean;
  /** From the response to the body. Default: JSON, or undefined where it is not JSON. */
  parse?(response: Response): Promise<any>;
  /** From the parsed body to the result. Default: the body. */
  unwrap?(body: any): R;
  /**
   * The request goes on when the page is left (WHATWG Fetch, "keepalive"): browsers allow 64 KiB for all such bodies together.
   * Its answer is not heard then. Default false.
   */
  keepalive?: boolean;
  /** The function that sends one run, in place of the origin's `fetch`. @example sendBy: ({ onProgress }) => uploadFetch(onProgress) */
  sendBy?(input: I): typeof fetch;
  /**
   * Whether an Idempotency-Key is sent, the same for all tries of one run, so that the server does a thing once. Default:
   * where `retry` is on, and the request is to this page's own origin. To another origin it goes only with `true`: there the
   * server has to allow the field (CORS, Access-Control-Allow-Headers).
   */
  idempotencyKey?: boolean;
}

/** A GraphQL mutation as a write. */
export interface GraphqlWriteDefinition<I, R> extends Omit<WriteDefinition<I, R>, "send"> {
  url: string | URL;
  /** Text, or an object that becomes text: a typed document. */
  document: string | { toString(): string };
  /** Default: the input itself. */
  variables?(input: I): object;
  /** From `data` to the result. */
  unwrap?(data: any): R;
  /** As of `HttpWriteDefinition`. */
  idempotencyKey?: boolean;
}

/** A document that knows the type of its data and of its variables. */
export interface TypedDocument<T, V> {
  toString(): string;
  __apiType?: (variables: V) => T;
}

/** The member that only the functions of this room read; the same symbol in all copies of the library. */
export const serverKey: unique symbol = Symbol.for("cista.server") as never;

/** One server, as sources. The freshness that its responses state is honoured; a definition's own statement wins. */
export interface Origin {
  /** @internal */
  readonly [serverKey]: unknown;
  /**
   * GET. 2xx: the body, as JSON unless `parse` says otherwise; 304: unchanged; 404, 410: missing; anything else: a
   * `Failure` of kind "http". Honoured are Cache-Control, Age, Date, Expires, Vary: * (RFC 9111), stale-* (RFC 5861),
   * immutable (RFC 8246), ETag and Last-Modified (RFC 9110 §8.8), Retry-After (§10.2.3), Cache-Groups (RFC 9875) and
   * problem bodies (RFC 9457).
   * @example
   * const hut = api.source({ name: "hut", url: ({ id }: { id: string }) => path`/api/huts/${id}`, check: hutSchema });
   * const huts = api.source({ name: "huts", url: "/api/huts", unwrap: (body: { huts: Hut[] }) => body.huts });
   */
  source<P = void, S extends StandardSchema<any, any> = StandardSchema<any, any>>(
    definition: CheckedHttpSourceDefinition<P, S>,
  ): Source<P, Known<OutputOf<S>>>;
  source<P = void, B = unknown, T = B>(
    definition: HttpSourceDefinition<P, T, B> & { parse(response: Response): Promise<B> },
  ): Source<P, Known<T>>;
  source<T>(
    definition: HttpSourceDefinition<void, T> & { url: string | URL; method?: "GET"; parse?: never },
  ): Source<void, Known<T>>;
  source<P = void, T = unknown>(definition: HttpSourceDefinition<P, T> & { parse?: never }): Source<P, Known<T>>;
}
