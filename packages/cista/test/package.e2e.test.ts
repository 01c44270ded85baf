import { execFileSync } from "node:child_process";
import { cpSync, mkdirSync, mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { afterAll, beforeAll, expect, test } from "vitest";

// The package as its user gets it: unpacked in an empty folder with what it depends on, and no framework.
let folder: string;
beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), "cista-package-"));
  const library = fileURLToPath(new URL("..", import.meta.url));
  const installed = join(folder, "node_modules/cista");
  mkdirSync(installed, { recursive: true });
  for (const part of ["dist", "package.json"]) cpSync(join(library, part), join(installed, part), { recursive: true });
  const { dependencies } = JSON.parse(readFileSync(join(library, "package.json"), "utf8"));
  for (const name of Object.keys(dependencies)) {
    cpSync(
      fileURLToPath(new URL(`../../../node_modules/${name}`, import.meta.url)),
      join(folder, "node_modules", name),
      {
        recursive: true,
      },
    );
  }
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

function run(program: string): string {
  const file = join(folder, "program.mjs");
  writeFileSync(file, program);
  return execFileSync(process.execPath, [file], { encoding: "utf8", timeout: 300_000 });
}

test("imported in plain Node it touches no page, starts nothing and needs no framework", () => {
  const out = run(`
    const before = Object.keys(globalThis).length;
    for (const name of ["document", "window", "navigator"]) Object.defineProperty(globalThis, name, { configurable: true, get() { throw new Error(name + " was touched"); } });
    for (const part of ["", "/http", "/browser", "/rehearsal"]) await import("cista" + part);
    console.log(process.getActiveResourcesInfo().filter((kind) => !/Pipe|TTY|FS|CloseReq/.test(kind)).length, Object.keys(globalThis).length - before);
  `);
  expect(out).toBe("0 0\n");
});

test("without a page openStore is a CistaError with the remedy", () => {
  const out = run(`
    import { createCache } from "cista";
    import { openStore } from "cista/browser";
    const cache = createCache();
    await openStore(cache).catch(({ code, message }) => console.log(code, message.includes("take a snapshot")));
    console.log(process.getActiveResourcesInfo().filter((kind) => kind === "Timeout").length);
  `);
  expect(out).toBe("no-page true\n0\n");
});

test("F8: a value does not keep the process alive; a pause that is waited for does", () => {
  const out = run(`
    import { createCache, source } from "cista";
    let tries = 0;
    const hut = source({ name: "hut", retry: { times: 1, firstPause: 2000 }, load: async () => { if (tries++ === 0) throw new Error("once"); return "Harebell"; } });
    const cache = createCache();
    console.log(await cache.read(hut));
    cache.view(hut).subscribe(() => {});
  `);
  expect(out).toBe("Harebell\n");
});

test("its types: checked whole, with no more than the lib of its own target", () => {
  writeFileSync(
    join(folder, "page.mts"),
    `import { createCache, source } from "cista";
    const hut = source({ name: "hut", load: async (id: string) => ({ id, water: 90 }) });
    const reading = createCache().peek(hut, "h-07");
    export const water: number | undefined = reading.state === "ready" ? reading.value.water : undefined;
    // @ts-expect-error: a hut has an id
    createCache().peek(hut, 7);`,
  );
  const tsc = fileURLToPath(new URL("../../../node_modules/typescript/bin/tsc", import.meta.url));
  const options = "--noEmit --strict --module nodenext --target es2022 --lib es2022,dom --skipLibCheck false page.mts";
  expect(
    execFileSync(process.execPath, [tsc, ...options.split(" ")], { cwd: folder, encoding: "utf8", timeout: 300_000 }),
  ).toBe("");
});
