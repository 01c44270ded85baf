// Puts the docs into the package cista, so that an error of a production build names a file that its user has.
import { cpSync, mkdirSync, rmSync } from "node:fs";
import { join } from "node:path";
import { root } from "./ready.mjs";

const to = join(root, "packages/cista/docs");
rmSync(to, { recursive: true, force: true });
mkdirSync(to, { recursive: true });
for (const name of ["errors.md", "debugging.md", "limits.md", "security.md", "http.md", "rules.md", "guide"]) {
  cpSync(join(root, "docs", name), join(to, name), { recursive: true });
}
