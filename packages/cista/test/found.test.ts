import { test } from "vitest";
import type { Rules } from "./model/record.js";
import { compare, type Step } from "./model/schedule.js";

// What the model once found, each the shortest schedule that showed it.
const plain: Rules = {
  maxAge: 0,
  whileRevalidate: 0,
  ifError: 0,
  mustRevalidate: false,
  noStore: false,
  immutable: false,
  triggers: [],
  retain: 3,
  tries: 0,
  pause: 1,
};
const attach = (key = 0, asks = true): Step => ({ do: "attach", key, asks });
const detach: Step = { do: "detach", nth: 0 };
const end = (how: "value" | "failure" | "missing" | "unchanged" = "value", nth = 0): Step => ({ do: "end", nth, how });
const read = (mode = "default", key = 0): Step => ({ do: "read", key, mode });
const on = (what: "prefetch" | "revalidate" | "put" | "invalidate" | "delete", key = 0): Step => ({ do: what, key });
const pass = (seconds: number): Step => ({ do: "pass", seconds });
const jump = (seconds: number): Step => ({ do: "jump", seconds });

const found: [string, Partial<Rules>, Step[]][] = [
  [
    "a clock put back to before the cache was made: peek shows the held value",
    {},
    [on("prefetch"), end(), jump(1), jump(1), attach(), read()],
  ],
  [
    "a clock put back to before the cache was made: moments still come",
    { maxAge: 2 },
    [jump(4), on("put"), attach(), pass(3), end(), detach, pass(4)],
  ],
  [
    "a clock put back makes no stale value fresh again for a read",
    { maxAge: 2, retain: 1000 },
    [on("put"), jump(4), pass(6), read(), jump(1), read()],
  ],
  [
    "a reload takes the place of a try that has already failed, whose signal is left alone",
    { tries: 1 },
    [read("default", 2), end("failure"), read("reload", 2), end(), pass(1)],
  ],
  ["a delete goes on for whoever waits", {}, [read("default", 2), on("delete", 2), end(), end()]],
  [
    "a put takes the place of a prefetch, and the next request ends when its watcher leaves",
    {},
    [on("prefetch"), on("put"), attach(), detach],
  ],
  [
    "asked, then left: the next request ends when its watcher leaves",
    {},
    [attach(), end("unchanged"), on("revalidate"), detach, attach(), detach, attach()],
  ],
  [
    "put without a lifetime or a watcher: a view that starts nothing shows nothing",
    {},
    [read("default", 2), on("put", 2), attach(2, false), end()],
  ],
  [
    "a value that came stale, though within its allowance, is not asked for again by itself",
    { whileRevalidate: 5 },
    [attach(), end(), pass(5), end(), attach()],
  ],
  [
    "a value that came stale and invalidated is not asked for again after its follower failed",
    {},
    [attach(2), on("invalidate", 2), end(), end("failure"), pass(1)],
  ],
  ["stale-if-error goes by age, also after a clock was put back", {}, [on("put"), jump(1), attach(), end("failure")]],
  [
    "a request after an invalidation: another request follows for it",
    {},
    [read(), on("invalidate"), on("revalidate"), end(), end()],
  ],
  [
    "the network comes back in the same moment in which the page is hidden: it counts when the page is visible again",
    { triggers: ["online"] },
    [
      attach(),
      { do: "page", visible: true, online: false },
      { do: "page", visible: false, online: true },
      end(),
      { do: "page", visible: true, online: true },
    ],
  ],
  [
    "offline, a no-store read waits like any other",
    {},
    [
      { do: "page", visible: false, online: false },
      read("no-store"),
      { do: "page", visible: true, online: true },
      end("unchanged"),
    ],
  ],
];

test.each(found)("%s", (_, rules, steps) => compare({ ...plain, ...rules }, steps));
