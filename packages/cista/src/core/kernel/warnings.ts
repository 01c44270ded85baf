/** What a cache tells the developer of its program, once each: comes with the development flavour alone. Rule F9. */
import { steadyEnvironment } from "../api/seams.js";
import type { Core } from "../state/core.js";

/** The warnings that each cache has given. */
const given: WeakMap<Core, Set<string>> = /* @__PURE__ */ new WeakMap();

function warn(core: Core, name: string, note: string): void {
  const before = given.get(core) ?? new Set();
  if (before.has(name)) return;
  given.set(core, before.add(name));
  console.warn(`Cista: ${note}`);
  core.journal?.noteOther("warning", { note });
}

/** The held value was requested with other headers. In a page a token was renewed; on a server another user uses the cache. */
export function warnOfOtherUser(core: Core): void {
  if (core.environment !== steadyEnvironment) return;
  const note =
    "one cache is used with different request headers (Authorization, or what Vary names). On a server make a cache for each request, and hand the request over as createCache({ context }).";
  warn(core, "other user", note);
}

/** Two looks at the headers of one request differ: no value that they bring is shown to a watcher. */
export function warnOfUnknownUser(core: Core, key: string): void {
  const note = `the request headers of ${key} (Authorization, or what Vary names) are others each time that they are looked at, as a signature or the time of day is. So the cache does not know which user asks, and shows the answer to no component. Say which user is signed in: origin({ user: () => id }). Leave other fields that differ each time out of headers.`;
  warn(core, "unknown user", note);
}
