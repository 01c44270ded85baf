import type { Environment } from "../core/index.js";

/**
 * The page as environment: whether somebody looks at it (`visibilitychange`, and `pageshow` after the back/forward
 * cache), and whether there is a network (`online`, `offline`; what the browser says: "online" may be a lie, "offline" is not).
 * Listens only while subscribed to.
 */
export function pageEnvironment(): Environment {
  return {
    get visible() {
      return document.visibilityState === "visible";
    },
    get online() {
      return navigator.onLine;
    },
    subscribe(listener) {
      const heard = [
        [document, "visibilitychange"],
        [window, "pageshow"],
        [window, "online"],
        [window, "offline"],
      ] as const;
      const call = () => listener();
      for (const [target, type] of heard) target.addEventListener(type, call);
      return () => {
        for (const [target, type] of heard) target.removeEventListener(type, call);
      };
    },
  };
}
