/** A server as it was described once, the requests to it, and its answers. */
import type { Validator } from "../core/index.js";
import type { Askers } from "./asker.js";
import type { HeaderFields, OriginOptions } from "./contract.js";
import type { Renewals } from "./renewal.js";
import type { Times } from "./response-freshness.js";

/** An origin's options, its base as a URL. */
export type Server = Omit<OriginOptions, "base"> & {
  readonly base: URL | undefined;
  readonly askers: Askers;
  readonly renewals: Renewals | undefined;
};

/** A request that was answered. */
export interface Exchange extends Times {
  /** The requested URL. */
  readonly url: URL;
  /** Where the answer came from, after redirections. */
  readonly landed: URL;
  readonly response: Response;
  /** Which condition the request carried (RFC 9110 §13.1). */
  readonly condition: "etag" | "last-modified" | undefined;
  readonly held: Validator | undefined;
  /** By which of the request's fields the answer varies (RFC 9111 §4.1). */
  readonly varies: Record<string, string> | undefined;
  /** The fields of the request. */
  readonly sent: Headers;
  /** Whether the answer may be for one user only (see `Askers.isOneUsers`). */
  readonly isOneUsers: boolean;
  /** Bodies longer than this many bytes are refused. */
  readonly maxBody: number;
}

/** A request to a server, beside the server's own headers. */
export interface Ask {
  readonly url: URL;
  /** Of the source or write, for messages. */
  readonly name: string;
  /** The URL that the definition itself names, if it is not made of the params. */
  readonly named?: string | URL | undefined;
  readonly method?: string | undefined;
  /** The definition's headers. Like the server's own, they are for origins that the program has named. */
  readonly headers?: HeaderFields | undefined;
  /** The headers that the request is made of, for any origin. */
  readonly fields?: Readonly<Record<string, string>> | undefined;
  readonly body?: BodyInit | undefined;
  /** It goes on when the page is left. */
  readonly keepalive?: boolean | undefined;
  /** The function that sends it, in place of the server's `fetch`. */
  readonly fetch?: typeof fetch | undefined;
  /** A write may be redirected to another origin. */
  readonly followAnywhere?: boolean | undefined;
  /** The held value's validators, which make the request conditional where that costs no preflight. */
  readonly held?: Validator | undefined;
  /** It was begun for another user: no cache on the way may answer it. */
  readonly isAnothers?: boolean;
}
