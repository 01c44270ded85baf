import { CistaError, type Source, type SourceDefinition, source } from "../core/index.js";
import { pageAddress } from "./address.js";
import { load } from "./load.js";

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
export type SourcePolicy<P, T> = Omit<SourceDefinition<P, any, T>, "load" | "network">;

export interface HttpSourceDefinition<P, T> extends SourcePolicy<P, T> {
  url: Url<P>;
  headers?: HeadersInit;
  /** From the response to the body. Default: JSON. */
  parse?(response: Response): Promise<unknown>;
  /** From the parsed body to the value, e.g. out of an envelope. */
  unwrap?(body: any): T;
}

/** One server, as sources. */
export interface Origin {
  /**
   * GET. 2xx: the body, as JSON unless `parse` says otherwise; 304: unchanged; 404, 410: missing; anything else: a
   * `Failure` of kind "http". What the response says of its freshness is honoured (RFC 9111); what the definition says
   * itself wins over it.
   */
  source<P = void, T = unknown>(definition: HttpSourceDefinition<P, T>): Source<P, T>;
}

/** One server, described once. Sends nothing. @throws CistaError code "base" for a base that is no absolute URL */
export function origin(options: OriginOptions = {}): Origin {
  const base = options.base === undefined ? undefined : absolute(options.base);
  const settings = { ...options, base };
  return {
    source<P, T>(definition: HttpSourceDefinition<P, T>): Source<P, T> {
      const { url, headers, parse, unwrap, ...policy } = definition;
      return source({
        ...policy,
        ...(typeof url === "function" && url.length > 0 ? {} : { params: false }),
        load: (params: P, context) =>
          load(settings, definition as HttpSourceDefinition<unknown, unknown>, params, context),
      } as SourceDefinition<P, any, T>) as Source<P, T>;
    },
  };
}

function absolute(base: string | URL): URL {
  const given = String(base);
  if (URL.canParse(given)) return new URL(given);
  const page = pageAddress();
  if (page && URL.canParse(given, page)) return new URL(given, page);
  throw new CistaError(
    "base",
    `base is an absolute URL such as "https://huts.example/", but it is ${JSON.stringify(given)}.`,
  );
}
