import type { AnswerDetails } from "cista";
import { expect, test } from "vitest";
import { heldSource, inShort, stage, watch } from "./stage.js";

const s = (seconds: number) => seconds * 1000;

/**
 * The sentences of the standards about a stored response of a certain age, as a newcomer sees them: while the source is
 * asked, and after it failed to answer. "hit" is fresh and asks nothing.
 */
type Row = [
  section: string,
  says: AnswerDetails,
  seconds: number,
  asked: "hit" | "shown" | "waits",
  failed: "shown" | "failed",
];

const example = { maxAge: s(600), staleWhileRevalidate: s(30), staleIfError: 0 };
const errors = { maxAge: s(600), staleWhileRevalidate: 0, staleIfError: s(1200) };
const none = { staleWhileRevalidate: 0, staleIfError: 0 };

const rows: Row[] = [
  // RFC 9111 §4.2: fresh while freshness_lifetime > current_age
  ["9111 §4.2 the lifetime exceeds the age", { ...none, maxAge: s(60) }, 59, "hit", "shown"],
  ["9111 §4.2 equal is stale", { ...none, maxAge: s(60) }, 60, "waits", "failed"],
  ["9111 §4.2.1 no lifetime at all", { ...none, maxAge: 0 }, 0, "waits", "failed"],
  ["9111 §1.2.2 the longest lifetime that can be said", { ...none, maxAge: s(2 ** 31) }, 86_400, "hit", "shown"],
  // §4.2.3: the age on arrival counts (Age, §5.1)
  ["9111 §4.2.3 aged on the way, still fresh", { ...none, maxAge: s(60), age: s(30) }, 29, "hit", "shown"],
  ["9111 §4.2.3 aged on the way, stale sooner", { ...none, maxAge: s(60), age: s(30) }, 30, "waits", "failed"],
  ["9111 §5.1 older on arrival than its lifetime", { ...none, maxAge: s(60), age: s(90) }, 0, "waits", "failed"],
  // §4.2.4: a cache MUST NOT generate a stale response unless allowed
  ["9111 §4.2.4 stale, and nothing allows it", { ...none, maxAge: s(60) }, 61, "waits", "failed"],
  ["9111 §5.2.2.2 must-revalidate, fresh", { maxAge: s(60), mustRevalidate: true }, 59, "hit", "shown"],
  ["9111 §5.2.2.2 must-revalidate, stale", { maxAge: s(60), mustRevalidate: true }, 60, "waits", "failed"],
  [
    "9111 §5.2.2.2 must-revalidate over both allowances",
    { ...example, mustRevalidate: true, staleIfError: s(1200) },
    601,
    "waits",
    "failed",
  ],
  // RFC 5861 §3.1: max-age=600, stale-while-revalidate=30
  ["5861 §3.1 fresh for 600 seconds", example, 599, "hit", "shown"],
  ["5861 §3.1 served stale for up to 30 more", example, 600, "shown", "failed"],
  ["5861 §3.1 up to", example, 629, "shown", "failed"],
  ["5861 §3.1 after that truly stale", example, 630, "waits", "failed"],
  // RFC 5861 §4.1: max-age=600, stale-if-error=1200
  ["5861 §4.1 fresh for 600 seconds", errors, 599, "hit", "shown"],
  ["5861 §4.1 used if an error is encountered after 600", errors, 600, "waits", "shown"],
  ["5861 §4.1 up to 1200 seconds later", errors, 1799, "waits", "shown"],
  ["5861 §4.1 after 1800 it must not be", errors, 1800, "waits", "failed"],
  ["5861 both, the first ended", { ...example, staleIfError: s(1200) }, 700, "waits", "shown"],
  // RFC 8246 §2: immutable says nothing of what is stale
  ["8246 §2 fresh", { ...none, maxAge: s(60), immutable: true }, 59, "hit", "shown"],
  ["8246 §2 stale", { ...none, maxAge: s(60), immutable: true }, 60, "waits", "failed"],
];

test.each(rows)("RFC %s", async (_, says, seconds, asked, failed) => {
  const { cache, clock } = stage({ retain: Number.POSITIVE_INFINITY });
  const { source: hut, loads } = heldSource("hut");
  cache.put(hut, 1, "held", says);
  await clock.advance(s(seconds));
  const { view } = watch(cache, hut, 1);
  const first = { hit: 'ready "held"', shown: 'ready "held" stale running', waits: "loading running" }[asked];
  expect(inShort(view.get())).toBe(first);
  expect(loads).toHaveLength(asked === "hit" ? 0 : 1);
  if (asked === "hit") return;
  loads[0]?.fail(new Error("no"));
  await clock.advance(0);
  expect(inShort(view.get())).toBe(failed === "shown" ? 'ready "held" stale (load)' : "failed (load)");
});
