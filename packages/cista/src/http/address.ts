/** The page's own address; undefined outside a page. */
export function pageAddress(): string | undefined {
  return typeof document === "object" ? document.baseURI : undefined;
}

/** Outside a page there is no other cache and no CORS: every origin is as good as one's own. */
export function isOwnOrigin(url: URL): boolean {
  const page = pageAddress();
  return page === undefined || new URL(page).origin === url.origin;
}
