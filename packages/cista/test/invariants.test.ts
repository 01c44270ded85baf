import { setFlagsFromString } from "node:v8";
import { runInNewContext } from "node:vm";
import fc from "fast-check";
import { expect, test, vi } from "vitest";
import { Program } from "./model/program.js";
import { isQuick, programsOf } from "./model/programs.js";
import { settings, step } from "./model/steps.js";

const { runs, seed, ran } = programsOf("invariants", 300, 3);

test(`random programs keep what every cache promises (seed ${seed})`, {
  timeout: 3_600_000,
}, async () => {
  vi.stubGlobal("reportError", () => {}); // what the program's own hooks throw
  vi.resetModules();
  const copy = await import("cista");
  const unhandled: unknown[] = [];
  const note = (reason: unknown) => unhandled.push(reason);
  process.on("unhandledRejection", note);
  setFlagsFromString("--expose-gc");
  const collect = runInNewContext("gc") as () => void;
  const run = async (given: any, steps: readonly any[]) => {
    ran(steps.length);
    const library = given.isOtherCopy ? { copy } : {};
    const memory = given.looksAtMemory ? { collect } : {};
    let held = 1;
    // The engine itself keeps a value now and then: what the library keeps is there in each run of a program.
    for (let turn = 0; turn < 4 && held > 0; turn++)
      held = (await runProgram({ ...given, ...library, ...memory }, steps)).held;
    if (held > 0) throw new Error(`F8: ${held} values of entries that were let go are held`);
    if (unhandled.length > 0) throw new Error(`unhandled: ${unhandled.splice(0)[0]}`);
  };
  await fc.assert(fc.asyncProperty(settings, fc.array(step, { minLength: 5, maxLength: 40 }), run), {
    numRuns: runs,
    seed,
    endOnFailure: isQuick,
  });
  process.off("unhandledRejection", note);
  vi.unstubAllGlobals();
  expect(runs).toBeGreaterThan(0);
});

const plain = { capacity: 0, swr: 0, mustRevalidate: false, noStore: false, retry: 0 };
const attach = (kind: string, id = 0) => ({ do: "attach", kind, id, when: true, pick: false });
const end = (how: string) => ({ do: "end", nth: 0, how });
const invalidateLeaf = { do: "change", kind: "leaf", id: 0, how: "invalidate" };

test("D1: a composite whose dependency stays invalidated after a failure is asked for anew", async () => {
  const readApart = { do: "read", kind: "top", id: 0, signal: false, noStore: true };
  const steps = [[attach("top")], [end("value")], [readApart], [invalidateLeaf, end("failure")]];
  await runProgram({ ...plain, maxAge: Number.POSITIVE_INFINITY, mustRevalidate: true }, steps);
});

test("D1: a dependency whose answer was of before its invalidation is waited for once more", async () => {
  const steps = [
    [attach("chain")],
    [end("value"), attach("leaf"), { do: "pass", seconds: 1 }],
    [{ do: "read", kind: "leaf", id: 0, signal: false, noStore: false }, invalidateLeaf],
    [invalidateLeaf],
    [end("same")],
  ];
  await runProgram({ ...plain, maxAge: 60, mustRevalidate: true }, steps);
});

test("D1: a composite waits for a dependency that is being brought up to date once more", async () => {
  const steps = [[attach("chain", 1)], [attach("leaf"), end("value")], [invalidateLeaf], [invalidateLeaf, end("same")]];
  await runProgram({ ...plain, maxAge: 60, mustRevalidate: true }, steps);
});

test("D1: a dependency that changes between two reads of a load under way is brought up to date for that load", async () => {
  const steps = [
    [attach("top"), { do: "read", kind: "leaf", id: 0, signal: false, noStore: false }],
    [
      { do: "leave", nth: 0 },
      { do: "listen", on: "journal", how: 1, kind: "leaf", id: 0 },
    ],
    [{ do: "change", kind: "leaf", id: 0, how: "put" }],
  ];
  await runProgram({ ...plain, maxAge: 86_400 * 60 }, steps);
});

test("R2: a dependency whose load puts its value at once keeps no composite waiting", async () => {
  const steps = [
    [{ do: "listen", on: "load", how: 1, kind: "leaf", id: 0 }],
    [end("value")],
    [end("value"), attach("pair", 2)],
    [end("value")],
    [{ do: "jump", seconds: -60 }],
    [end("value")],
  ];
  await runProgram({ ...plain, maxAge: 0 }, steps);
});

test("D1: a dependency that its own load deletes is asked for anew for the composite that waits", async () => {
  const steps = [
    [attach("pair", 1)],
    [end("value")],
    [{ do: "listen", on: "load", how: 2, kind: "leaf", id: 1 }],
    [end("value")],
    [attach("leaf")],
    [{ do: "read", kind: "leaf", id: 0, signal: false, noStore: false }],
  ];
  await runProgram({ ...plain, maxAge: 0 }, steps);
});

test("D1: a dependency that cannot be brought up to date is not asked for over and over", async () => {
  const steps = [
    [attach("chain", 2), end("value")],
    [invalidateLeaf],
    [{ do: "fail", kind: "chain", id: 0 }],
    [attach("leaf"), end("value")],
  ];
  await runProgram({ ...plain, maxAge: Number.POSITIVE_INFINITY }, steps);
});

test("D1: composites whose dependency fails, and is covered, do not ask for it in turns", async () => {
  const steps = [
    [attach("top")],
    [end("value"), { do: "change", kind: "leaf", id: 0, how: "put" }],
    [{ do: "jump", seconds: 1 }],
    [
      { do: "write", id: 0 },
      { do: "pass", seconds: 1 },
    ],
    [{ do: "read", kind: "leaf", id: 0, signal: false, noStore: false }],
    [{ do: "fail", kind: "pair", id: 0 }],
    [end("value")],
    [{ do: "pass", seconds: 3_456_000 }, attach("top", 1)],
  ];
  await runProgram({ ...plain, maxAge: 2 }, steps);
});

test("D1: dependencies that fail one after the other do not ask for the composite again and again", async () => {
  const steps = [
    [attach("top", 1)],
    [{ do: "change", kind: "leaf", id: 0, how: "put" }],
    [{ do: "all", how: "invalidate" }, attach("leaf")],
    [end("value")],
    [attach("leaf"), { do: "pass", seconds: 1_000_000 }],
  ];
  await runProgram({ ...plain, maxAge: 0 }, steps);
});

test("F8: an entry that is put while its load begins does not depend on the entries that this load still reads", async () => {
  const read = (id: number) => ({ do: "read", kind: "top", id, signal: false, noStore: false });
  const steps = [
    [read(0)],
    [
      { do: "listen", on: "load", how: 1, kind: "top", id: 2 },
      { do: "fail", kind: "pair", id: 0 },
    ],
    [read(2), attach("leaf")],
    [end("value")],
  ];
  await runProgram({ ...plain, maxAge: 0 }, steps);
});

test("R3: a stream that is prefetched again when its answer has come ends like any other", async () => {
  const steps = [
    [{ do: "listen", on: "load", how: 3, kind: "leaf", id: 0 }],
    [{ do: "listen", on: "journal", how: 0, kind: "stream", id: 0 }],
    [attach("leaf")],
    [end("value")],
  ];
  await runProgram({ ...plain, maxAge: 0 }, steps);
});

test("R3: the dependencies of a watched composite are brought up to date, without watchers of their own", async () => {
  const steps = [
    [attach("leaf")],
    [end("value")],
    [attach("top", 1)],
    [{ do: "change", kind: "pair", id: 1, how: "put" }],
    [{ do: "all", how: "pairs" }],
    [{ do: "change", kind: "leaf", id: 0, how: "delete" }],
    [{ do: "detach", nth: 0 }],
    [end("value")],
  ];
  await runProgram({ ...plain, maxAge: Number.POSITIVE_INFINITY, noStore: true }, steps);
});

test("F3: a composite that is fresh again because its dependencies are unchanged expires again", async () => {
  const steps = [
    [attach("leaf")],
    [end("value")],
    [{ do: "jump", seconds: -1 }],
    [attach("top", 1)],
    [{ do: "pass", seconds: 1 }],
    [end("value")],
    [{ do: "change", kind: "leaf", id: 1, how: "put" }],
    [{ do: "detach", nth: 0 }],
    [{ do: "pass", seconds: 60 }],
  ];
  await runProgram({ ...plain, maxAge: 2 }, steps);
});

test("R3: a request without waiters ends, also where its entry is a dependency", async () => {
  const steps = [
    [attach("leaf")],
    [{ do: "read", kind: "chain", id: 0, signal: false, noStore: false }],
    [{ do: "page", visible: false, online: false }],
    [end("value")],
    [{ do: "jump", seconds: -26 }],
  ];
  await runProgram({ ...plain, capacity: 1, maxAge: 2 }, steps);
});

test("F3: a value that expires by a clock put ahead while one of two writes ends is asked for at once", async () => {
  const write = { do: "write", id: 1 };
  const steps = [
    [write],
    [write, { do: "all", how: "invalidate" }],
    [attach("list", 1)],
    [end("value")],
    [{ do: "jump", seconds: 60 }, attach("leaf")],
    [{ do: "settle", nth: 0, how: "refused" }],
  ];
  await runProgram({ ...plain, maxAge: 60, mustRevalidate: true }, steps);
});

test("F3: a stream whose last value expired while it was open is asked for when it ends, with any new watchers", async () => {
  const steps = [[attach("stream")], [{ do: "pass", seconds: 70 }, { do: "detach", nth: 0 }, attach("stream")]];
  await runProgram({ ...plain, maxAge: 60 }, [...steps, [{ do: "stream", how: "end" }]]);
});

async function runProgram(given: any, steps: readonly any[]): Promise<Program> {
  const program = new Program(given);
  for (const [at, each] of steps.entries()) {
    await program.take(each).catch((thrown: Error) => {
      throw new Error(`after step ${at} ${JSON.stringify(each)}: ${thrown.message}`);
    });
  }
  await program.close();
  return program;
}
