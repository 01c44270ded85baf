import { CistaError } from "../core/index.js";

/** The base of relative URLs: the page's own address, or the worker's; undefined outside of both. */
export function pageAddress(): string | undefined {
  return typeof document === "object" ? document.baseURI : globalThis.location?.href;
}

/** Outside a page or worker there is no other cache and no CORS: every origin is as good as one's own. */
export function isOwnOrigin(url: URL): boolean {
  const own = globalThis.location; // not the base address, which a page may set to another origin
  return own === undefined || own.origin === url.origin;
}

/** @throws CistaError code "invalid-base-url" for a base that is no absolute URL */
export function absolute(base: string | URL): URL {
  const given = String(base);
  const page = pageAddress();
  if (URL.canParse(given)) return new URL(given);
  if (page && URL.canParse(given, page)) return new URL(given, page);
  throw new CistaError(
    "invalid-base-url",
    DEVELOPMENT && `base is an absolute URL such as "https://huts.example/", but it is ${JSON.stringify(given)}.`,
  );
}

/** @throws CistaError code "missing-base-url" where there is nothing to resolve it against */
export function resolved(given: string | URL, base: URL | undefined, name: string): URL {
  const against = base ?? pageAddress();
  if (DEVELOPMENT && base && URL.canParse(String(given), base)) noticeDroppedPath(String(given), base, name);
  try {
    return new URL(given, against);
  } catch {}
  throw new CistaError(
    "missing-base-url",
    DEVELOPMENT &&
      `The url of the source "${name}" is ${JSON.stringify(String(given))}: without a page there is nothing to resolve it against. Give origin({ base }) the server's address.`,
  );
}

const dropped = new Set<string>();

/** In development: "/huts" at "https://huts.example/api/" is "https://huts.example/huts" (WHATWG URL, path-absolute). */
function noticeDroppedPath(given: string, base: URL, name: string): void {
  const folder = base.pathname.replace(/[^/]*$/, "");
  const isDropped = given.startsWith("/") ? folder !== "/" && !given.startsWith(folder) : !base.pathname.endsWith("/");
  if (!isDropped || given.startsWith("//") || URL.canParse(given) || dropped.has(name)) return;
  dropped.add(name);
  const said = given.startsWith("/") ? `without its first slash, as ${JSON.stringify(given.slice(1))}` : "";
  const instead = said ? `Write the url ${said}` : `End the base with a slash, as ${JSON.stringify(`${base.href}/`)}`;
  console.warn(
    `Cista: the url ${JSON.stringify(withoutQuery(given))} of "${name}" drops the path of its base ${withoutQuery(base)}: it leads to ${withoutQuery(new URL(given, base))}. ${instead}, or leave the path out of the base.`,
  );
}

/** An address for messages: without its query, which may hold secrets. */
export function withoutQuery(url: string | URL): string {
  const text = String(url).replace(/[?#].*$/, "");
  return text.length > 200 ? `${text.slice(0, 199)}…` : text;
}

/** The group that every entry is in for its URL, so that an unsafe request to it reaches the entry (RFC 9111 §4.4). */
export function urlGroup(url: URL): string {
  return url.href.replace(/#.*$/, "");
}
