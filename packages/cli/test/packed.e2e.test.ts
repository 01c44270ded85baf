import { execFileSync } from "node:child_process";
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync } from "node:fs";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { afterAll, beforeAll, expect, test } from "vitest";

// The package as `npm install` unpacks it, in an empty folder, with nothing of the repository beside it.
const root = fileURLToPath(new URL("../../..", import.meta.url));
let folder: string;
const installed = (name: string, ...path: string[]) => join(folder, "node_modules", name, ...path);

beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), "cista-packed-"));
  const packed = execFileSync("npm", ["pack", "--json", "--ignore-scripts", "--pack-destination", folder], {
    cwd: join(root, "packages/cista"),
    encoding: "utf8",
    stdio: ["ignore", "pipe", "ignore"],
  });
  const [{ filename }] = JSON.parse(packed);
  mkdirSync(installed("cista"), { recursive: true });
  execFileSync("tar", ["xzf", join(folder, filename), "--strip-components=1", "-C", installed("cista")]);
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

test.each([
  ["tour", "Cista; fwd=miss"],
  ["--help", "probe"],
])("from npm alone the command runs, without its library's dependencies: %s", (word, expected) => {
  const { bin } = JSON.parse(readFileSync(installed("cista", "package.json"), "utf8"));
  const out = execFileSync(process.execPath, [installed("cista", bin.cista), word], {
    cwd: folder,
    encoding: "utf8",
    timeout: 60_000,
  });
  expect(out).toContain(expected);
});

test("the tarball has its readme, its licence and the demo's page", () => {
  const files = ["README.md", "LICENSE", "dist/command/board/index.html"];
  expect(files.filter((file) => !existsSync(installed("cista", file)))).toEqual([]);
});
