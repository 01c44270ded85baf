import { execFileSync, spawnSync } from "node:child_process";
import { existsSync, mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, symlinkSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { afterAll, beforeAll, expect, test } from "vitest";

// The packages as `npm install` unpacks them, in an empty folder, with nothing of the repository beside them.
const root = fileURLToPath(new URL("../../..", import.meta.url));
let folder: string;
const installed = (name: string, ...path: string[]) => join(folder, "node_modules", name, ...path);
const manifest = (name: string) => JSON.parse(readFileSync(installed(name, "package.json"), "utf8"));

function unpack(name: string, from: string): void {
  const packed = execFileSync("npm", ["pack", "--json", "--ignore-scripts", "--pack-destination", folder], {
    cwd: join(root, from),
    encoding: "utf8",
    stdio: ["ignore", "pipe", "ignore"],
  });
  const [{ filename }] = JSON.parse(packed);
  mkdirSync(installed(name), { recursive: true });
  execFileSync("tar", ["xzf", join(folder, filename), "--strip-components=1", "-C", installed(name)]);
}

const run = (name: string, ...words: string[]) =>
  spawnSync(process.execPath, [installed(name, manifest(name).bin.cista), ...words], {
    cwd: folder,
    encoding: "utf8",
    timeout: 300_000,
  });

beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), "cista-packed-"));
  unpack("cista", "packages/cista");
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

test("the library's tarball has its docs, which a production error names, and no demo", () => {
  const files = ["README.md", "LICENSE", "docs/errors.md", "docs/guide/README.md"];
  expect(files.filter((file) => !existsSync(installed("cista", file)))).toEqual([]);
  expect(readdirSync(installed("cista")).sort()).toEqual([
    "LICENSE",
    "README.md",
    "bin",
    "dist",
    "docs",
    "package.json",
  ]);
  expect(readdirSync(installed("cista", "dist")).filter((name) => /board|command/.test(name))).toEqual([]);
});

test("without the command's package the library's launcher says which one it is", () => {
  const { status, stderr } = run("cista", "tour");
  expect([status, stderr.trim()]).toEqual([
    1,
    "The cista command is the package @cista/cli. Run it by: npx @cista/cli tour",
  ]);
});

test.each([
  ["@cista/cli", "tour", "Cista; fwd=miss"],
  ["@cista/cli", "--help", "probe"],
  ["cista", "--help", "probe"],
])("from npm alone the command runs, with the dependencies that it names: %s %s", (name, word, expected) => {
  if (!existsSync(installed("@cista/cli"))) {
    unpack("@cista/cli", "packages/cli");
    for (const dependency of Object.keys(manifest("@cista/cli").dependencies)) {
      mkdirSync(dirname(installed(dependency)), { recursive: true });
      symlinkSync(join(root, "node_modules", dependency), installed(dependency));
    }
  }
  expect(run(name, word).stdout).toContain(expected);
  expect(existsSync(installed("@cista/cli", "dist/board/index.html"))).toBe(true);
});
