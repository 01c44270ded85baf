import { execFileSync } from "node:child_process";
import { existsSync, mkdirSync, mkdtempSync, readFileSync, rmSync, symlinkSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { afterAll, beforeAll, expect, test } from "vitest";

// Both packages as `npm install` unpacks them, in an empty folder, with nothing of the repository beside them.
const root = fileURLToPath(new URL("../../..", import.meta.url));
let folder: string;
const installed = (name: string, ...path: string[]) => join(folder, "node_modules", name, ...path);

beforeAll(() => {
  folder = mkdtempSync(join(tmpdir(), "cista-packed-"));
  for (const [name, place] of [
    ["cista", "packages/cista"],
    ["@cista/cli", "packages/cli"],
  ] as const) {
    const options = ["pack", "--json", "--ignore-scripts", "--pack-destination", folder];
    const packed = execFileSync("npm", options, {
      cwd: join(root, place),
      encoding: "utf8",
      stdio: ["ignore", "pipe", "ignore"],
    });
    const [{ filename }] = JSON.parse(packed);
    mkdirSync(installed(name), { recursive: true });
    execFileSync("tar", ["xzf", join(folder, filename), "--strip-components=1", "-C", installed(name)]);
    const { dependencies } = JSON.parse(readFileSync(installed(name, "package.json"), "utf8"));
    for (const each of Object.keys(dependencies)) {
      if (existsSync(installed(each)) || each === "cista") continue;
      mkdirSync(dirname(installed(each)), { recursive: true });
      symlinkSync(join(root, "node_modules", each), installed(each));
    }
  }
});
afterAll(() => rmSync(folder, { recursive: true, force: true }));

test("from npm alone the command runs: a tour without a clone", () => {
  const { bin } = JSON.parse(readFileSync(installed("@cista/cli", "package.json"), "utf8"));
  const out = execFileSync(process.execPath, [installed("@cista/cli", bin.cista), "tour"], {
    cwd: folder,
    encoding: "utf8",
    timeout: 60_000,
  });
  expect(out).toContain("Cista; fwd=miss");
});

test.each(["cista", "@cista/cli"])("the tarball of %s has its readme and its licence", (name) => {
  for (const file of ["README.md", "LICENSE"]) expect(existsSync(installed(name, file))).toBe(true);
});
