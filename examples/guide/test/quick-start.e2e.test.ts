import { execFileSync } from "node:child_process";
import {
  createReadStream,
  existsSync,
  mkdirSync,
  mkdtempSync,
  readFileSync,
  rmSync,
  symlinkSync,
  writeFileSync,
} from "node:fs";
import { createServer, type Server } from "node:http";
import type { AddressInfo } from "node:net";
import { tmpdir } from "node:os";
import { dirname, extname, join } from "node:path";
import { fileURLToPath } from "node:url";
import type { Browser } from "playwright";
import { afterAll, beforeAll, expect, test } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";

// The quick start as a reader follows it: a Vite application with its template's strict settings, what the page says pasted into
// it, built, and opened in a browser.

const root = fileURLToPath(new URL("../../..", import.meta.url));
const page = readFileSync(join(root, "docs/guide/quick-start.md"), "utf8");
const pasted = [...page.matchAll(/^`([\w./]+)`\n\n```\w+\n(.*?)```/gms)];
const template = {
  "package.json": '{ "name": "hut-board", "private": true, "type": "module" }',
  "index.html":
    '<!doctype html><html lang="en"><title>huts</title><div id="root"></div><script type="module" src="/src/main.tsx"></script></html>',
  "vite.config.ts":
    'import react from "@vitejs/plugin-react"; import { defineConfig } from "vite"; export default defineConfig({ plugins: [react()] });',
  "tsconfig.json": JSON.stringify({
    compilerOptions: {
      ...{ target: "es2023", lib: ["ES2023", "DOM", "DOM.Iterable"], module: "esnext", moduleResolution: "bundler" },
      ...{ jsx: "react-jsx", strict: true, exactOptionalPropertyTypes: true, verbatimModuleSyntax: true, noEmit: true },
      ...{ allowImportingTsExtensions: true, noUnusedLocals: true, skipLibCheck: false, types: [] },
    },
    include: ["src"],
  }),
};
const kinds: Record<string, string> = { ".html": "text/html", ".js": "text/javascript", ".json": "application/json" };

let folder: string;
let server: Server;
let browser: Browser;
const asked: string[] = [];
const at = (...path: string[]) => join(folder, ...path);

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), "cista-quick-start-"));
  for (const [path, text] of [
    ...Object.entries(template),
    ...pasted.map(([, path, text]) => [path, text]),
  ] as string[][]) {
    mkdirSync(dirname(at(path as string)), { recursive: true });
    writeFileSync(at(path as string), text as string);
  }
  symlinkSync(join(root, "node_modules"), at("node_modules"));
  server = createServer(({ url = "/" }, response) => {
    asked.push(url);
    const file = at("dist", url === "/" ? "index.html" : url);
    if (!existsSync(file)) return response.writeHead(404).end();
    response.writeHead(200, { "content-type": kinds[extname(file)] ?? "text/plain" });
    return createReadStream(file).pipe(response);
  });
  await new Promise<void>((resolve) => server.listen(0, "127.0.0.1", resolve));
  browser = await launchChromium();
});
afterAll(async () => {
  await browser?.close();
  server?.close();
  rmSync(folder, { recursive: true, force: true });
});

const run = (program: string, ...words: string[]) =>
  execFileSync(process.execPath, [join(root, "node_modules", program), ...words], { cwd: folder, encoding: "utf8" });

test("the pasted code compiles with the strictest settings, is built, and does as the page says", async () => {
  expect(pasted.map(([, path]) => path)).toEqual(["public/huts.json", "src/sources.ts", "src/main.tsx", "src/App.tsx"]);
  expect(run("typescript/bin/tsc", "-p", ".")).toBe("");
  run("vite/bin/vite.js", "build", "--logLevel", "error");
  const tab = await browser.newPage();
  await tab.goto(`http://127.0.0.1:${(server.address() as AddressInfo).port}/`);
  await tab.getByText("195 litres of water in all").waitFor();
  expect(await tab.getByRole("listitem").allTextContents()).toContain("Peat Hag Hut: 40 litres");
  expect(asked.filter((url) => url === "/huts.json")).toHaveLength(1);
  writeFileSync(at("dist/huts.json"), readFileSync(at("dist/huts.json"), "utf8").replace("40", "45"));
  await tab.getByRole("button", { name: "Ask now" }).click();
  await tab.getByText("200 litres of water in all").waitFor();
  rmSync(at("dist/huts.json"));
  await tab.getByRole("button", { name: "Ask now" }).click();
  await tab.getByText("There is no such thing.").waitFor();
});
