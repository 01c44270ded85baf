/** The page as the cache sees it: visible, online, and the sign-outs of other pages. Rules F3, S4. */
import type { Environment } from "../core/index.js";

/** By this name the pages of one site tell each other. */
const channelName = "cista sign-out";

/**
 * The page as environment: whether it is visible (`visibilitychange`, and `pageshow` after the back/forward
 * cache), whether there is a network (`online`, `offline`, as the browser says: "online" may be a lie, "offline" is not),
 * and the other pages of the same site, by a BroadcastChannel. Listens only while subscribed to.
 */
export function pageEnvironment(): Environment {
  const environment: Environment = {
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
  return typeof BroadcastChannel === "undefined" ? environment : Object.assign(environment, { others });
}

const others: NonNullable<Environment["others"]> = {
  join(onSignOut) {
    // A channel does not hear its own messages: one and the same tells and hears.
    const channel = new BroadcastChannel(channelName);
    channel.onmessage = ({ data }) => {
      const { partition } = (data ?? {}) as { partition?: unknown };
      if (partition === undefined || typeof partition === "string") onSignOut(partition);
    };
    return {
      tellSignOut: (partition) => channel.postMessage({ partition }),
      leave: () => channel.close(),
    };
  },
};
