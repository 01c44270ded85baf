// Puts the built board beside the command, so that `cista demo` needs nothing but its own package.
import { cpSync, rmSync } from "node:fs";
import { fileURLToPath } from "node:url";

const from = fileURLToPath(new URL("../../../examples/board-react/dist", import.meta.url));
const to = fileURLToPath(new URL("../dist/board", import.meta.url));
rmSync(to, { recursive: true, force: true });
cpSync(from, to, { recursive: true });
