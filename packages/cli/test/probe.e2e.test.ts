import { type ChildProcess, spawn } from "node:child_process";
import { once } from "node:events";
import { createServer, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { fileURLToPath } from "node:url";
import { type RunningOrigin, startOrigin } from "@cista/example-origin";
import { createCache, type Failure } from "cista";
import { origin } from "cista/http";
import ts from "typescript";
import { afterAll, afterEach, beforeAll, expect, test } from "vitest";

const command = fileURLToPath(new URL("../bin/cista.mjs", import.meta.url));
const children: ChildProcess[] = [];
let huts: RunningOrigin;
let odd: Server;
let oddUrl: string;
let asked = 0;

beforeAll(async () => {
  huts = await startOrigin();
  odd = createServer(({ url, method, headers }, response) => {
    asked++;
    const json = (fields: Record<string, string>, body: unknown = { a: 1 }) => {
      for (const [name, value] of Object.entries(fields)) response.setHeader(name, value);
      response.setHeader("content-type", "application/json").end(JSON.stringify(body));
    };
    const pages: Record<string, () => unknown> = {
      "/loop": () => response.writeHead(302, { location: "/again" }).end(),
      "/again": () => response.writeHead(307, { location: "/loop" }).end(),
      "/moved": () => response.writeHead(301, { location: "/echo" }).end(),
      "/never": () => {},
      "/nothing": () => response.writeHead(204).end(),
      "/reset": () => response.writeHead(205).end(),
      "/empty": () => response.setHeader("age", "10, 20").setHeader("retry-after", "soon").end(),
      "/html": () => response.setHeader("content-type", "text/html").end("<h1>Please sign in</h1>"),
      "/cut": () => response.setHeader("content-length", 100).write('{"a":', () => response.destroy()),
      "/echo": () => json({}, { method, wren: headers["x-wren"] ?? null }),
      "/contrary": () =>
        json({
          etag: `"${asked}"`,
          "cache-control": "max-age=60, no-store",
          date: new Date(Date.now() - 366 * 86_400_000).toUTCString(),
          "cache-groups": "huts",
          "access-control-allow-origin": "*",
        }),
      "/deaf": () => json({ etag: '"always"', "cache-control": "max-age=5, must-revalidate, stale-if-error=60" }),
      "/elsewhere": () => response.writeHead(302, { location: `${huts.url}/api/huts` }).end(),
      "/data": () => response.writeHead(302, { location: "data:application/json,{}" }).end(),
      "/raw": () =>
        json(
          { etag: '"\u009b2J"', "cache-groups": '"a\u00ad"' },
          { "\u001b]52;c;QQ==\u0007": 1, "\u202egpj.exe": "\u0085" },
        ),
      "/large": () =>
        json({}, Object.fromEntries(Array.from({ length: 20_000 }, (_, n) => [`member${n}`, "x".repeat(200)]))),
      "/deep": () =>
        response.setHeader("content-type", "application/json").end("[".repeat(50_000) + "]".repeat(50_000)),
      "/class/1": () => json({}),
      "/numbered": () => json({}, { items: [{ id: 1 }], page: 1, pages: 3, total: 9 }),
      "/cursor": () => json({}, { items: [{ id: 1 }], next_cursor: "abc" }),
      "/secret": () => response.writeHead(401, { "www-authenticate": "Bearer" }).end(),
      "/liar": () => json({ etag: '"always"' }, { asked }),
    };
    (pages[url ?? ""] ?? (() => response.writeHead(404).end()))();
  });
  await new Promise<void>((resolve) => odd.listen(0, "127.0.0.1", resolve));
  oddUrl = `http://127.0.0.1:${(odd.address() as AddressInfo).port}`;
});
afterAll(async () => {
  odd.closeAllConnections();
  odd.close();
  await huts.close();
});
afterEach(() => {
  for (const child of children.splice(0)) child.kill();
});

async function probe(...words: string[]): Promise<{ code: number; output: string }> {
  const child = spawn(process.execPath, [command, "probe", ...words], { env: { ...process.env, FORCE_COLOR: "" } });
  children.push(child);
  let output = "";
  for (const stream of [child.stdout, child.stderr]) stream.on("data", (part) => (output += part));
  const [code] = await once(child, "close");
  return { code, output };
}

test("a well-kept endpoint: its headers, their meaning, a source that compiles", async () => {
  const { code, output } = await probe(`${huts.url}/api/huts/h-07`);
  expect(code).toBe(0);
  for (const told of [
    /^200 OK, application\/json, \d+ bytes, answered in \d+ ms$/m,
    /cache-control: max-age=60 +fresh for 60 s \(RFC 9111 §5\.2\.2\.1\)/,
    /cache-groups: "huts", "hut-h-07" +invalidated together/,
    /asked again {2}by If-None-Match: answered 304, without a body/,
    /openMonths: 8 × number/,
  ])
    expect(output).toMatch(told);
  expect(output).not.toContain("odd about it");
  const pasted = output.slice(output.indexOf("A source to begin with") + "A source to begin with".length);
  const { diagnostics } = ts.transpileModule(pasted, { reportDiagnostics: true });
  expect(diagnostics).toEqual([]);
  expect(pasted).toContain("hut = api.source<{ id: string }, Hut>({");
  expect(pasted).toMatch(/interface Hut \{\n +id: string;/);
});

test("--json: the same as data; lists in envelopes, lists in parts, streams", async () => {
  const found = async (path: string) => JSON.parse((await probe("--json", `${huts.url}${path}`)).output);
  expect(await found("/api/huts?region=Ashdale&q=a")).toMatchObject({
    outcome: "value",
    storable: true,
    lifetime: 30,
    lifetimeFrom: "max-age",
    staleWhileRevalidate: 300,
    staleIfError: null,
    conditional: { by: "etag", status: 304, works: true },
    groups: ["huts"],
    complaints: [],
    definition: expect.stringMatching(
      /\{ region, q \}\) => withQuery\("\/api\/huts", \{ region, q \}\).*\n.*body\.huts,/,
    ),
  });
  expect((await found("/api/huts/h-16/logbook")).definition).toContain("pagesFrom<{ id: string }, Logbook>(api, {");
  expect(await found("/api/notices")).toMatchObject({
    outcome: "stream",
    definition: expect.stringContaining("events"),
  });
  expect(await found("/api/routes/r-1")).toMatchObject({ conditional: { by: "last-modified", works: true } });
  expect(await found("/api/basket")).toMatchObject({ storable: false, complaints: [] });
  expect(await found("/api/huts/h-37")).toMatchObject({ outcome: "missing", status: 410 });
});

test.each(["/echo", "/html", "/nothing", "/reset", "/empty", "/gone", "/secret", "/moved"])(
  "the outcome told for %s is that of a source",
  async (url) => {
    const cache = createCache();
    const read = cache.read(origin({ base: oddUrl }).source<void, unknown>({ name: "it", url, retry: false }));
    const outcome = await read.then(
      () => "value",
      ({ kind }: Failure) => kind,
    );
    cache.dispose();
    const told = JSON.parse((await probe("--json", `${oddUrl}${url}`)).output);
    expect([told.outcome, told.definition !== null]).toEqual([outcome, ["value", "missing"].includes(outcome)]);
  },
);

test("Age counts by its first number, and a Retry-After that cannot be read is passed over", async () => {
  const { output } = await probe(`${oddUrl}/empty`);
  expect(output).toMatch(/age: 10, 20 +has been 10 s on the way, in caches; of several numbers the first counts/);
  expect(output).toMatch(/retry-after: soon +no number of seconds and no HTTP-date: it is passed over/);
  expect(output).toMatch(/! The body is empty, which is no JSON/);
});

test("a server that contradicts itself is told so", async () => {
  const { code, output } = await probe(`${oddUrl}/contrary`);
  expect(code).toBe(0);
  const complaints = output.replace(/\n {4}/g, " ");
  for (const told of [
    /! The ETag changed from "\d+" to "\d+" while the body stayed the same/,
    /! no-store stands beside a lifetime/,
    /! Date is 1 year behind this machine's clock/,
    /! Cache-Groups is not a list of strings/,
    /! Pages of other origins do not see ETag, Date, Cache-Groups/,
  ])
    expect(complaints).toMatch(told);
  expect((await probe(`${oddUrl}/deaf`)).output).toMatch(
    /conditional requests\s+are ignored[\s\S]*allowance says nothing/,
  );
  expect((await probe(`${oddUrl}/liar`)).output).toMatch(/changed while its strong ETag\s+stayed "always"/);
  expect((await probe(`${oddUrl}/html`)).output).toMatch(
    /kind shape[\s\S]*not JSON \(text\/html\); it begins "<h1>Please sign in/,
  );
});

test("the source to begin with has the method, the body, the fields without secrets, pages", async () => {
  const pasted = async (...words: string[]) => JSON.parse((await probe("--json", ...words)).output).definition;
  const posted = await pasted(`${oddUrl}/echo`, "-d", '{"text":"fern","page":1}', "-H", "Authorization: Bearer s3cret");
  expect(posted).toContain('headers: () => ({ authorization: "…" })');
  expect(posted).toContain("api.source<{ text: string; page: number; }, Echo>({");
  expect(posted).toContain('method: "POST",');
  expect(posted).not.toContain("s3cret");
  expect(await pasted(`${oddUrl}/numbered`)).toMatch(
    /pagesFrom<void, Numbered>\(api[\s\S]*searchParams\.set\("page", body\.page \+ 1\)/,
  );
  expect(await pasted(`${oddUrl}/cursor`)).toContain('next.searchParams.set("cursor", body.next_cursor)');
  const { output } = await probe(`${oddUrl}/secret`);
  expect(output).toMatch(/answers only who has signed in \(WWW-Authenticate: Bearer\)/);
});

test("headers, method and data go along; redirects are shown", async () => {
  const { output } = await probe(`${oddUrl}/moved`, "-H", "X-Wren: yes", "-H", "Accept: */*");
  expect(output).toMatch(/GET .*\/moved\n {2}301 → .*\/echo\n200 OK/);
  const posted = await probe("--json", `${oddUrl}/echo`, "-d", "{}");
  expect(JSON.parse(posted.output)).toMatchObject({ method: "POST", conditional: { by: null } });
});

test.each<[string, string[], number, RegExp]>([
  ["/loop", [], 1, /redirects without end:\n {2}302 → .*\/again\n {2}307 → .*\/loop/],
  ["/never", ["--timeout", "0.3"], 1, /No answer came from .*\/never within 0\.3 s\. \(--timeout waits longer\.\)/],
  ["/cut", [], 1, /The body from .*\/cut broke off, after 5 bytes/],
  ["/echo", ["-H", "nonsense"], 2, /A header is a name, a colon and a value/],
  ["/echo", ["--timeout", "soon"], 2, /A time-out is a length of time such as 3s/],
])("probe %s %j ends with %i", async (path, words, code, output) => {
  const run = await probe(`${oddUrl}${path}`, ...words);
  expect(run.output).toMatch(output);
  expect(run.code).toBe(code);
});

test("S5: fields that are given for one server are not sent to another", async () => {
  huts.reset();
  const elsewhere = await probe(`${oddUrl}/elsewhere`, "-H", "Authorization: Bearer ada");
  expect([elsewhere.code, elsewhere.output]).toEqual([
    1,
    expect.stringMatching(/another origin, .*\(authorization\) is not sent there/),
  ]);
  expect(huts.tally.of("/api/huts").requests).toBe(0);
  expect((await probe(`${oddUrl}/elsewhere`)).code).toBe(0);
  expect((await probe(`${oddUrl}/data`)).output).toContain("no address that is asked by HTTP");
});

test("a terminal gets no control characters of a server, and not much of its text", async () => {
  for (const words of [["/raw"], ["/raw", "--json"], ["/large"], ["/large", "--json"], ["/deep"]]) {
    const { output } = await probe(`${oddUrl}${words[0]}`, ...words.slice(1));
    expect(output.replaceAll("\n", "")).not.toMatch(/[\p{Cc}\u202e\u00ad]/u);
    expect(output.length).toBeLessThan(200_000);
  }
  const { output } = await probe(`${oddUrl}/class/1`);
  const pasted = output.slice(output.indexOf("A source to begin with") + "A source to begin with".length);
  expect(ts.transpileModule(pasted, { reportDiagnostics: true }).diagnostics).toEqual([]);
});

test("no server there: the remedy is told", async () => {
  const closed = await startOrigin();
  await closed.close();
  const run = await probe(closed.url);
  expect(run.output).toMatch(/No answer came from .* \(ECONNREFUSED\)\. Nothing listens at that port\./);
  expect(run.code).toBe(1);
  expect((await probe("localhost:4310/api")).output).toContain("begins with http:// or https://");
});
