/** Where requests may go, and which headers go along. Rule S5. */
import { CistaError } from "../core/index.js";
import type { Server } from "./server.js";

// The one place that decides which origins a request may go to, and which of them get the headers that a program has for its own
// server: its headers, its credentials, the bodies of its writes. See docs/security.md.

/** @param named an absolute URL that the definition itself names, as text */
export function isTrusted(server: Server, url: URL, named: string | URL | undefined): boolean {
  const home = homeOf(server);
  if (home !== undefined && home === url.origin) return true;
  if (server.trust?.some((origin) => originOf(origin) === url.origin)) return true;
  // Outside of a page, without a base, the only origin that a program has named is that of a definition's own URL.
  return home === undefined && named !== undefined && originOf(named) === url.origin;
}

/** The origin that is the program's own: that of `base`, else the page's. */
function homeOf({ base }: Server): string | undefined {
  return base?.origin ?? globalThis.location?.origin;
}

function originOf(url: string | URL): string | undefined {
  return URL.canParse(String(url)) ? new URL(url).origin : undefined;
}

/** @throws CistaError code "untrusted-origin": the body of a write is for the program's own server */
export function refuseForeignWrite(name: string, url: URL): never {
  throw new CistaError(
    "untrusted-origin",
    DEVELOPMENT &&
      `The write "${name}" leads to ${url.origin}, which is not the origin of its server: what it sends was not meant for that one. If it is, name it: origin({ trust: ["${url.origin}"] }).`,
  );
}
