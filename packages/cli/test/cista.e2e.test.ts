import { type ChildProcess, spawn } from "node:child_process";
import { once } from "node:events";
import { createServer } from "node:http";
import { fileURLToPath } from "node:url";
import { afterEach, expect, test } from "vitest";

const command = fileURLToPath(new URL("../bin/cista.mjs", import.meta.url));

interface Run {
  readonly child: ChildProcess;
  output(): string;
  readonly ended: Promise<number | null>;
}

const children: ChildProcess[] = [];
afterEach(() => {
  for (const child of children.splice(0)) child.kill(); // whatever a failed test left running
});

function cista(...words: string[]): Run {
  const child = spawn(process.execPath, [command, ...words], { env: { ...process.env, FORCE_COLOR: "" } });
  children.push(child);
  let output = "";
  for (const stream of [child.stdout, child.stderr]) stream.on("data", (part) => (output += part));
  return { child, output: () => output, ended: once(child, "close").then(([code]) => code) };
}

async function said(run: Run, pattern: RegExp): Promise<RegExpExecArray> {
  for (;;) {
    const found = pattern.exec(run.output());
    if (found) return found;
    await Promise.race([
      once(run.child.stdout!, "data"),
      run.ended.then((code) => Promise.reject(new Error(`ended with ${code}: ${run.output()}`))),
    ]);
  }
}

test.each([
  [["--help"], 0, /demo .*start the hut network[\s\S]*tour .*narrated run[\s\S]*Exit codes: 0/],
  [["--version"], 0, /^0\.1\.0\n$/],
  [["tuor"], 2, /unknown command 'tuor'\n\(Did you mean tour\?\)/],
  [["demo", "--port", "many"], 2, /A port is a whole number from 0 to 65535/],
  [[], 2, /Usage: cista/],
])("cista %j ends with %d", async (words, code, output) => {
  const run = cista(...words);
  expect(await run.ended).toBe(code);
  expect(run.output()).toMatch(output);
});

test("the tour tells each step with its Cache-Status, in plain text when piped", async () => {
  const run = cista("tour", "--no-pause");
  expect(await run.ended).toBe(0);
  const text = run.output();
  expect(text).not.toContain("\u001b");
  for (const told of [
    /read +hut \{"id":"h-07"\} +loading +Cista; fwd=miss\n/,
    /answer +hut \{"id":"h-07"\} +ready +Cista; fwd=miss; fwd-status=200; stored/,
    /the origin counted 1 request for it/,
    // A whole second of the lifetime may be over: the header Date has no fractions of one.
    /read +hut \{"id":"h-12"\} +ready +Cista; hit; ttl=[01]\b/,
    /it shows 90 litres, stale[\s\S]*it shows 55 litres, fresh/,
    /unchanged +hut \{"id":"h-07"\} +ready +Cista; fwd=stale; fwd-status=304; stored/,
    /missing +hut \{"id":"h-99"\} +missing +Cista; fwd=miss; fwd-status=404; stored/,
    /retry +hut \{"id":"h-20"\} +loading +Cista; fwd=miss; fwd-status=500 +500: again in \d+ ms/,
    /failure +hut \{"id":"h-20"\} +failed +Cista; fwd=miss; fwd-status=500 +http/,
    /abort +hut \{"id":"h-31"\} +empty +Cista; fwd=miss; detail=aborted +nobody waits[\s\S]*the origin saw 1 connection close/,
    /layer +basket +ready +by book +laid[\s\S]*before any answer the basket shows 3 nights\n.*settle +book +done/,
    /request +hut \{"id":"h-12"\} +ready +Cista; fwd=stale +by book/,
    /before any answer: 4 nights\n.*failure.*\n.*settle +book +refused: The hut is full\n.*lifted: taken back[\s\S]*as it was: 3 nights/,
    /In all: 17 reads, 16 requests at the origin, 3 of them answered "not modified", 1 aborted\.\n$/,
  ]) {
    expect(text).toMatch(told);
  }
  expect(text.match(/collapsed/g)).toHaveLength(4);
});

test("the demo serves board and interface on one address, and frees the port", async () => {
  const run = cista("demo", "--port", "0");
  const [, url = ""] = await said(run, /board {3}(http:\S+)/);
  expect(await (await fetch(url)).text()).toContain("<title>Greyfell huts</title>");
  expect(await (await fetch(`${url}/api/huts/h-07`)).json()).toMatchObject({ name: "Harebell Hut" });

  const second = cista("demo", "--port", new URL(url).port);
  expect(await second.ended).toBe(1);
  expect(second.output()).toMatch(/cista: Port \d+ is taken by another program\. Name another one with --port/);

  run.child.kill("SIGINT");
  run.child.kill("SIGINT"); // at once: from the terminal, and from whoever hands it on
  expect(await run.ended).toBe(0);
  expect(run.output()).toMatch(/\nStopping\.\n$/);
  const again = createServer().listen(Number(new URL(url).port), "127.0.0.1");
  await once(again, "listening");
  again.close();
});

test("the demo's usual port is taken: it says so and takes another", async () => {
  const usual = createServer().listen(4310, "127.0.0.1");
  await once(usual, "listening").catch(() => {}); // taken already is as good
  const run = cista("demo");
  const [, port] = await said(
    run,
    /Port 4310 is taken by another program, so another one was chosen\.[\s\S]*http:\/\/127\.0\.0\.1:(\d+)/,
  );
  expect(port).not.toBe("4310");
  run.child.kill("SIGTERM");
  expect(await run.ended).toBe(0);
  usual.close();
});
