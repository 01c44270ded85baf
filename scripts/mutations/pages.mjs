/** Rules H: pages that are rendered on a server. */
export const pages = [
  ["H1", "receive.ts", "if (!sent) return undefined;", "if (sent || !sent) return undefined;"],
  ["H1 hydrated", "live.ts", "this.follower.isHydrating = true;", ""],
  ["H3", "receive.ts", "Math.min(now - snapshot.takenAt, Math.round(performance.now()))", "now - snapshot.takenAt"],
  [
    "H3 shown early",
    "server/page.ts",
    "return since > 0 ? Object.assign(entry, { age: entry.age + since, shownAt }) : entry;",
    "return entry;",
  ],
  ["H4", "server/page.ts", 'if (state !== "ready" && state !== "missing") {', "if (!state) {"],
  ["H5", "server/page.ts", "if (!entry || (entry.noStore && !this.#noStore)) {", "if (!entry) {"],
  [
    "H6",
    "page-reading.ts",
    "const isComing = rendering.of(view, source, when, onServer) instanceof Promise;",
    "const isComing = true;",
  ],
  ["H7", "server/page.ts", "if (!asks) return emptyReadingOf(view); // rule H7", ""],
  ["H8", "server/page.ts", "for (const wait of [...this.#waits.values()]) wait.end();", ""],
  ["H8 values", "use-value.ts", "refuseLeft(cache, key);", ""],
  ["H9", "receive.ts", 'console.warn("Cista: what came with the page cannot be read:", thrown);', "throw thrown;"],
  ["H2", "kernel/asking.ts", 'if (entry.activity?.isBrought && standing !== "invalidated") return false;', ""],
  [
    "H2 invalidated",
    "kernel/asking.ts",
    'entry.activity?.isBrought && standing !== "invalidated"',
    "entry.activity?.isBrought",
  ],
  [
    "H10 streams",
    "snapshot.ts",
    "made.maxAge = isOpen ? 0 : finite(policy.maxAge)",
    "made.maxAge = finite(policy.maxAge)",
  ],
  ["H10 wholes", "restoring.ts", "linkParts(entry, stored);", ""],
  ["H10 later", "restoring.ts", "else pendingOf(core).linkLater(source, entry, params);", ""],
];
