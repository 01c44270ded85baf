import { type Cache, createCache } from "cista";
import { openPage, type ServerPage } from "cista/server";
import { createContext } from "react-router";

export interface CistaContext {
  readonly cache: Cache;
  /** There while a document is rendered; a navigation has none. */
  readonly page: ServerPage | undefined;
}

/** With nothing in it for a URL without a route: that runs no middleware. */
export const cistaContext = createContext<CistaContext | undefined>(undefined);
export const browserCache: Cache | undefined = typeof document === "undefined" ? undefined : createCache();

export function contextOf(request: Request): CistaContext {
  const cache = createCache({ context: { cookie: request.headers.get("cookie") ?? undefined } });
  const isData = new URL(request.url).pathname.endsWith(".data") || request.headers.get("sec-fetch-dest") === "empty";
  return { cache, page: isData ? undefined : openPage(cache) };
}
