import { type Cache, createCache } from "cista";
import { receivePage } from "cista/browser";

/** One for all islands of the page, of whichever framework they are. Islands wait for this module, and so for the page's data. */
const inBrowser = import.meta.env.SSR ? undefined : createCache();
if (inBrowser) {
  await receivePage(inBrowser);
  document.addEventListener("astro:after-swap", () => void receivePage(inBrowser)); // with <ClientRouter />
}

/** The page's in the browser; on the server that of the request, see middleware.ts. */
export const cacheHere = (): Cache => inBrowser ?? globalThis.cacheOfRequest();
