import { type Context, createContext, createElement, type ReactNode, useContext } from "react";
import { type Cache, CistaError } from "../core/index.js";
import { inDevelopmentOnly } from "./development.js";

/** Not for programs: they use `useCache`. */
export const CacheContext: Context<Cache | undefined> = createContext<Cache | undefined>(undefined);

/** Gives a cache to all components beneath. Make the cache once, outside of components. */
export function CistaProvider(props: { cache: Cache; children?: ReactNode }): ReactNode {
  inDevelopmentOnly(({ noticeCopies }) => noticeCopies());
  return createElement(CacheContext.Provider, { value: props.cache }, props.children);
}

/** The cache of the nearest provider. @throws CistaError code "no-provider" where there is none */
export function useCache(): Cache {
  const cache = useContext(CacheContext);
  if (cache) return cache;
  throw new CistaError(
    "no-provider",
    DEVELOPMENT &&
      "There is no cache here. Wrap the components that read from it: <CistaProvider cache={cache}>…</CistaProvider>.",
  );
}
