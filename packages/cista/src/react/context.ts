import { type Context, createContext, createElement, type ReactNode, useContext, useMemo, useRef } from "react";
import { englishTexts, type Texts } from "../binding/texts.js";
import { type Cache, CistaError } from "../core/index.js";
import { inDevelopmentOnly } from "./development.js";

/** Not for programs: they use `useCache`. */
export const CacheContext: Context<Cache | undefined> = createContext<Cache | undefined>(undefined);

/** Not for programs: the default texts of `Outcome` and `Boundary`. */
export const TextsContext: Context<Texts> = createContext<Texts>(englishTexts);

/**
 * Gives a cache to all components beneath. Make the cache once, outside of components.
 * @param props `texts`: the texts of `Outcome` and `Boundary`; a text that is left out stays English
 * @example <CistaProvider cache={cache} texts={{ loading: "Wird geladen …", tryAgain: "Noch einmal" }}>
 */
export function CistaProvider(props: { cache: Cache; texts?: Partial<Texts>; children?: ReactNode }): ReactNode {
  if (DEVELOPMENT) {
    // biome-ignore lint/correctness/useHookAtTopLevel: a constant of the build
    const provider = useRef({}).current;
    inDevelopmentOnly(({ noticeCopies, sawCache }) => {
      noticeCopies();
      sawCache(provider, props.cache);
    });
  }
  const { texts, children } = props;
  const above = useContext(TextsContext);
  const here = useMemo(() => ({ ...above, ...texts }), [above, texts]);
  const within = texts ? createElement(TextsContext.Provider, { value: here }, children) : children;
  return createElement(CacheContext.Provider, { value: props.cache }, within);
}

/** The cache of the nearest provider. @throws CistaError code "no-provider" where there is none */
export function useCache(): Cache {
  return useCacheOr(undefined);
}

/** The cache that was given, or that of the nearest provider. */
export function useCacheOr(given: Cache | undefined): Cache {
  const provided = useContext(CacheContext);
  if (given ?? provided) return (given ?? provided) as Cache;
  throw new CistaError(
    "no-provider",
    DEVELOPMENT &&
      "There is no cache here. Wrap the components that read from it: <CistaProvider cache={cache}>…</CistaProvider>, or pass { cache }.",
  );
}
