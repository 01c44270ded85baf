import { type Cache, CistaError, type Source } from "../../core/index.js";
import { Member } from "./member.js";
import { browserTabs, type TabPlatform } from "./platform.js";

export interface TabsOptions {
  /** Tabs of one name tell each other. Default "cista". */
  name?: string;
  /** Of the program: tabs of another one are not listened to, whose values may be of another form. Default "". */
  version?: string;
  /** The only ones whose entries are told. Default: all sources. */
  sources?: readonly Source<any, any>[];
  /** @internal */
  platform?: TabPlatform;
}

/** The tabs of one page's site, as one of them sees them. */
export interface Tabs {
  /** How many others have been heard of. */
  readonly others: number;
  /** Tells and hears nothing more. To be called before the cache is disposed of. */
  close(): void;
}

/**
 * Has the tabs of one site share their values: a value that one tab has requested is not requested by the others, and a change
 * in one tab is made in all. No tab is in charge of the others. `noStore` values stay in their tab, and so do composites: their
 * dependencies are told. Resolves when the values of the other tabs are there, 40 ms later at most.
 * Where the browser has no BroadcastChannel the cache works as in one tab, with a warning in development.
 * @throws CistaError code "no-page" where there is no page, as on a server
 * @example
 * const cache = createCache({ partition: user.id });
 * const tabs = await joinTabs(cache, { version: "12" });
 */
export async function joinTabs(cache: Cache, options: TabsOptions = {}): Promise<Tabs> {
  const { name = "cista", version = "", sources, platform = browserTabs() } = options;
  if (!platform) {
    if (typeof document === "undefined") {
      throw new CistaError(
        "no-page",
        DEVELOPMENT &&
          "joinTabs lets the tabs of a browser share what they hold, and there is no page here: call it in the browser only.",
      );
    }
    if (DEVELOPMENT) console.warn("Cista: this browser has no BroadcastChannel, so each tab asks for itself.");
    return { others: 0, close() {} };
  }
  if (DEVELOPMENT && !platform.locks) {
    console.warn(
      "Cista: there are no Web Locks here (they need HTTPS or localhost), so two tabs may ask for the same at once.",
    );
  }
  const member = new Member(cache, { name, version, sources }, platform);
  await member.ready();
  return {
    get others() {
      return member.others.size;
    },
    close: () => member.close(),
  };
}
