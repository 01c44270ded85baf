"use client";
import { type Cache, createCache, restoreSnapshot } from "cista";
import { receivePage } from "cista/browser";
import { CistaProvider, useCache } from "cista/react";
import { type ReactNode, useMemo, useState } from "react";

let browserCache: Cache | undefined;

/** One cache for the browser; on the server one for each rendering. */
function cacheHere(): Cache {
  if (typeof window === "undefined") return createCache();
  browserCache ??= createCache();
  return browserCache;
}

export function Cista({ children }: { children: ReactNode }) {
  const [cache] = useState(cacheHere);
  return <CistaProvider cache={cache}>{children}</CistaProvider>;
}

/** Takes in what came with the page, or with a navigation, before the components inside are rendered. */
export function Restore({ text, children }: { text: string; children: ReactNode }) {
  const cache = useCache();
  useMemo(() => {
    if (text === "") return;
    if (typeof window === "undefined") restoreSnapshot(cache, JSON.parse(text));
    else void receivePage(cache, JSON.parse(text));
  }, [cache, text]);
  return children;
}
