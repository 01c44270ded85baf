import { execFileSync } from "node:child_process";
import { existsSync, mkdtempSync, readdirSync, readFileSync, rmSync, symlinkSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { nodeResolve } from "@rollup/plugin-node-resolve";
import replace from "@rollup/plugin-replace";
import * as esbuild from "esbuild";
import { rollup } from "rollup";
import ts from "typescript";
import { afterAll, beforeAll, describe, expect, test, vi } from "vitest";
import webpack from "webpack";

const library = fileURLToPath(new URL("..", import.meta.url));
const dist = (...path: string[]) => join(library, "dist", ...path);
const entries = ["index", "http", "react", "browser", "lamp", "rehearsal"];
let folder: string;
let program: string;

beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), "cista-flavours-"));
  symlinkSync(fileURLToPath(new URL("../../../node_modules", import.meta.url)), join(folder, "node_modules"));
  program = join(folder, "program.mjs");
  const parts = entries.map((name) => (name === "index" ? "cista" : `cista/${name}`));
  writeFileSync(program, parts.map((part, at) => `export * as part${at} from "${part}";`).join("\n"));
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

test.each(entries)("the values in the types of %s.d.ts are the exports of its file, in each flavour", (name) => {
  const types = ts.createProgram([dist(`${name}.d.ts`)], { target: ts.ScriptTarget.ES2022, noLib: true });
  const checker = types.getTypeChecker();
  const symbol = checker.getSymbolAtLocation(types.getSourceFile(dist(`${name}.d.ts`)) as ts.SourceFile);
  const isValue = (each: ts.Symbol) => {
    const target = each.flags & ts.SymbolFlags.Alias ? checker.getAliasedSymbol(each) : each;
    const typeOnly = each.declarations?.some(
      (at) => ts.isExportSpecifier(at) && (at.isTypeOnly || at.parent.parent.isTypeOnly),
    );
    return !typeOnly && (target.flags & ts.SymbolFlags.Value) !== 0;
  };
  const promised = checker
    .getExportsOfModule(symbol as ts.Symbol)
    .filter(isValue)
    .map((each) => each.name)
    .sort();
  for (const flavour of ["", "development", "production"]) {
    expect([flavour, exportsOf(dist(flavour, `${name}.js`))]).toEqual([flavour, promised]);
  }
});

/** As written at the end of the file, without running it: two of them need a page. */
function exportsOf(file: string): string[] {
  const source = ts.createSourceFile(file, readFileSync(file, "utf8"), ts.ScriptTarget.ES2022);
  const lists = source.statements.filter(ts.isExportDeclaration);
  return lists
    .flatMap(({ exportClause }) => (exportClause as ts.NamedExports).elements.map(({ name }) => name.text))
    .sort();
}

test.each([
  ["development", ["--conditions", "development"], {}, "maxAge must be a number of milliseconds"],
  ["production", ["--conditions", "production"], {}, "Cista: invalid-duration (see node_modules/cista/docs/errors.md"],
  ["no condition", [], {}, "maxAge must be a number of milliseconds"],
  [
    "no condition, NODE_ENV=production",
    [],
    { NODE_ENV: "production" },
    "Cista: invalid-duration (see node_modules/cista/docs/errors.md",
  ],
])("%s: a mistake says its code, and in development what to do", (_, options, env, text) => {
  const file = join(folder, "mistake.mjs");
  writeFileSync(
    file,
    'import { source } from "cista"; try { source({ name: "hut", maxAge: -1, load: () => 1 }); } catch ({ code, message }) { console.log(code, message); }',
  );
  const out = execFileSync(process.execPath, [...options, file], {
    encoding: "utf8",
    env: { PATH: process.env.PATH, ...env } as never,
  });
  expect(out).toContain(`duration ${text}`);
});

describe("a production bundle has no text that only developers need", () => {
  /** Pieces of text that stand in the development build and not in the production build. */
  const developers = [...textsIn("development")].filter((text) => !textsIn("production").has(text));
  // As their own commands set it for a production build: some choose the condition by it.
  beforeAll(() => void vi.stubEnv("NODE_ENV", "production"));
  afterAll(() => void vi.unstubAllEnvs());

  test("there are such texts", () => expect(developers.length).toBeGreaterThan(40));

  test("made by esbuild, by NODE_ENV alone", async () => {
    const { outputFiles, warnings } = await esbuild.build({
      entryPoints: [program],
      bundle: true,
      format: "esm",
      outdir: folder,
      splitting: true,
      minify: true,
      write: false,
      define: { "process.env.NODE_ENV": '"production"' },
      external: ["react"],
      logLevel: "silent",
    });
    expect(warnings.map(({ text }) => text)).toEqual([]);
    expectNone(outputFiles.map(({ text }) => text));
  });

  test("made by vite, by its condition", async () => {
    const { build } = await import("vite");
    const made = await build({
      root: folder,
      logLevel: "error",
      build: { write: false, lib: { entry: program, formats: ["es"] }, rollupOptions: { external: ["react"] } },
    });
    expectNone([made].flat().flatMap(({ output }: any) => output.map(({ code = "" }: any) => code)));
  });

  test("made by rollup, by NODE_ENV alone", async () => {
    const bundle = await rollup({
      input: program,
      external: ["react"],
      plugins: [
        nodeResolve({ browser: true }),
        replace({ preventAssignment: true, values: { "process.env.NODE_ENV": '"production"' } }),
      ],
    });
    const { output } = await bundle.generate({ format: "es" });
    expectNone(output.map((each) => ("code" in each ? each.code : "")));
  });

  test("made by webpack, by its condition", async () => {
    const path = join(folder, "webpack");
    await new Promise<void>((done, fail) => {
      webpack(
        {
          mode: "production",
          entry: program,
          output: { path, library: { type: "module" } },
          experiments: { outputModule: true },
          externals: { react: "react" },
          externalsType: "module",
        },
        (error, stats) => (error || stats?.hasErrors() ? fail(error ?? new Error(stats?.toString())) : done()),
      );
    });
    expectNone(readdirSync(path).map((name) => readFileSync(join(path, name), "utf8")));
  });

  function expectNone(files: readonly string[]): void {
    const all = files.join("\n");
    expect(all).toContain("The request was aborted"); // the library is in it
    expect(developers.filter((text) => all.includes(text))).toEqual([]);
  }
});

/** Every piece of text of some length, as it stands between quotes or holes. */
function textsIn(flavour: string): Set<string> {
  const found = new Set<string>();
  const visit = (node: ts.Node): void => {
    const text = ts.isStringLiteralLike(node) || ts.isTemplateHead(node) || ts.isTemplateMiddleOrTemplateTail(node);
    if (text && node.text.trim().length >= 24) found.add(node.text.trim());
    node.forEachChild(visit);
  };
  for (const name of readdirSync(dist(flavour)).filter((each) => each.endsWith(".js"))) {
    visit(ts.createSourceFile(name, readFileSync(dist(flavour, name), "utf8"), ts.ScriptTarget.ES2022));
  }
  return found;
}

test("each condition of the package leads to a file", () => {
  const { exports } = JSON.parse(readFileSync(join(library, "package.json"), "utf8"));
  const files = Object.values(exports).flatMap((each) =>
    typeof each === "string" ? each : Object.values(each as object),
  );
  expect(files.filter((file) => !existsSync(join(library, file)))).toEqual([]);
});
