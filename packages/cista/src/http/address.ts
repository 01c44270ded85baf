/** What relative URLs are relative to: the page's own address, or the worker's; undefined outside of both. */
export function pageAddress(): string | undefined {
  return typeof document === "object" ? document.baseURI : globalThis.location?.href;
}

/** Outside a page or worker there is no other cache and no CORS: every origin is as good as one's own. */
export function isOwnOrigin(url: URL): boolean {
  const own = globalThis.location; // not the base address, which a page may set to another origin
  return own === undefined || own.origin === url.origin;
}
