// Puts the built boards beside the command, so that `cista demo` needs nothing else.
import { cpSync, rmSync } from "node:fs";
import { fileURLToPath } from "node:url";

const at = (path) => fileURLToPath(new URL(path, import.meta.url));

function copy(from, to) {
  rmSync(to, { recursive: true, force: true });
  cpSync(from, to, { recursive: true });
}

copy(at("../../../examples/board-react/dist"), at("../dist/board"));
for (const name of ["vue", "svelte", "solid", "angular", "lit", "preact", "plain"]) {
  copy(at(`../../../examples/board-${name}/dist`), at(`../dist/board/${name}`));
}
