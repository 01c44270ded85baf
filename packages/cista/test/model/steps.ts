import fc from "fast-check";

// The steps and settings of random programs: see program.ts.

const kinds = ["leaf", "pair", "top", "chain", "stream", "list"] as const;
export type Kind = (typeof kinds)[number];
const id = fc.nat(2);
const what = { kind: fc.constantFrom(...kinds), id };
const does = <N extends string, M extends object>(
  weight: number,
  name: N,
  members: { [K in keyof M]: fc.Arbitrary<M[K]> },
) => ({
  weight,
  arbitrary: fc.record({ do: fc.constant(name), ...members } as object) as unknown as fc.Arbitrary<{ do: N } & M>,
});

const single = fc.oneof(
  does(24, "attach", {
    ...what,
    when: fc.constantFrom(true, true, false),
    pick: fc.boolean(),
    every: fc.constantFrom("none", "none", "none", "number", "function", "throws"),
  }),
  does(12, "detach", { nth: fc.nat(9) }),
  does(16, "read", { ...what, signal: fc.boolean(), noStore: fc.constantFrom(false, false, true) }),
  does(8, "leave", { nth: fc.nat(9) }),
  does(36, "end", { nth: fc.nat(3), how: fc.constantFrom("value", "value", "same", "failure") }),
  does(20, "change", { ...what, how: fc.constantFrom("put", "patch", "invalidate", "delete") }),
  does(4, "all", { how: fc.constantFrom("invalidate", "delete", "pairs") }),
  does(12, "fail", { kind: fc.constantFrom("pair", "top", "chain"), id }),
  does(8, "stream", { how: fc.constantFrom("push", "end", "break") }),
  does(8, "write", { id }),
  does(8, "settle", { nth: fc.nat(3), how: fc.constantFrom("done", "refused", "lost") }),
  does(12, "pass", { seconds: fc.constantFrom(1, 1, 3, 70, 86_400 * 40) }),
  does(6, "jump", {
    seconds: fc.constantFrom(-60, 60, -4000, 4000, -86_400, 86_400, -86_400 * 60, 86_400 * 60),
    isTold: fc.boolean(),
  }),
  does(4, "throw", { on: fc.constantFrom("groups", "share", "check", "pick", "view", "standIn") }),
  does(4, "page", { visible: fc.boolean(), online: fc.boolean() }),
  does(4, "listen", { on: fc.constantFrom("journal", "view", "abort", "load"), how: fc.nat(4), ...what }),
  does(1, "dispose", {}),
);
export type Single = typeof single extends fc.Arbitrary<infer S> ? S : never;

const watchIt = { do: "attach", when: true, pick: false, every: "none" } as const;
const endIt = (how: string) => ({ do: "end", nth: 0, how }) as const;
const wait = { do: "pass", seconds: 70 } as const;

/** What a page does often, of one entry and in one order: by chance alone it would be seen in a few of a thousand programs. */
const course = fc.record(what).chain(({ kind, id }) => {
  const here = { kind, id };
  const courses: object[][] = [
    // Two poll it, and the quicker one leaves.
    [
      { ...watchIt, ...here, every: "number" },
      { ...watchIt, ...here, every: "function" },
      endIt("value"),
      endIt("value"),
      { do: "detach", nth: -2 },
      wait,
    ],
    // It expires, turns out to be the same, and expires once more.
    [{ ...watchIt, ...here }, endIt("value"), endIt("value"), wait, endIt("same"), endIt("same"), wait],
    // It expires while nobody looks, and a write changes it.
    [
      { ...watchIt, ...here, kind: "list" },
      endIt("value"),
      { do: "page", visible: false, online: true },
      wait,
      { do: "write", id },
      { do: "page", visible: true, online: true },
    ],
    // It is put as soon as its load begins.
    [
      { do: "listen", on: "load", how: 1, ...here },
      { do: "read", ...here, signal: false, noStore: false },
      endIt("value"),
    ],
    // The machine sleeps, and somebody else comes to watch it.
    [
      { ...watchIt, ...here },
      endIt("value"),
      endIt("value"),
      { ...wait, seconds: 1 },
      { do: "jump", seconds: 4000, isTold: false },
      { ...watchIt, ...here },
    ],
  ];
  return fc.constantFrom(...courses) as unknown as fc.Arbitrary<readonly Single[]>;
});

/** One thing, or several in one go. */
export const step: fc.Arbitrary<readonly Single[]> = fc.oneof(
  { weight: 8, arbitrary: single.map((one) => [one]) },
  { weight: 2, arbitrary: fc.array(single, { minLength: 2, maxLength: 4 }) },
  { weight: 1, arbitrary: course },
);

export const settings = fc.record({
  capacity: fc.constantFrom(0, 1, 3, 1000),
  maxAge: fc.constantFrom(0, 2, 60, 60 * 86_400, Number.POSITIVE_INFINITY),
  swr: fc.constantFrom(0, 5, 1e9),
  mustRevalidate: fc.boolean(),
  noStore: fc.constantFrom(false, false, true),
  retry: fc.nat(1),
  wholesLast: fc.boolean(),
  /** Sources and writes are made by another copy of the library. */
  isOtherCopy: fc.constantFrom(false, false, true),
  /** At the end garbage is collected, which takes as long as a program. */
  looksAtMemory: fc.nat(19).map((one) => one === 0),
});
