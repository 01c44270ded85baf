// `npm run demo`: everything that is missing, then the demo. Options go on to it: `npm run demo -- --port 5000`.
import { spawn } from "node:child_process";
import { join } from "node:path";
import { build, install, root } from "./ready.mjs";

install();
build();
const { startBoard } = await import("../examples/board-server/start.mjs");
const rendered = await startBoard();
console.log(`The board, rendered on a server for one of two walkers: ${rendered.url}/hut/h-07`);
const child = spawn(process.execPath, [join(root, "packages/cli/bin/cista.mjs"), "demo", ...process.argv.slice(2)], {
  stdio: "inherit",
});
// A terminal's Ctrl-C reaches the child by itself; a signal sent to this process alone is handed on.
for (const signal of ["SIGINT", "SIGTERM"]) process.on(signal, () => child.kill(signal));
child.on("exit", (code) => void rendered.close().then(() => process.exit(code ?? 0)));
