import { createRequire } from "node:module";
import { Command, CommanderError, InvalidArgumentError } from "commander";
import { demo } from "./demo.js";
import { tour } from "./tour.js";

const { version } = createRequire(import.meta.url)("../package.json") as { version: string };

const program = new Command("cista")
  .description("A query cache in the words of the HTTP caching standards: a demo to look at, a tour to read.")
  .version(version)
  .showHelpAfterError("(cista --help shows what there is)")
  .exitOverride()
  .addHelpText(
    "after",
    "\nExit codes: 0 all went well, 1 something failed (the message says what), 2 the call's words are off.",
  );

program
  .command("demo")
  .description("start the hut network and its board, and print one address; Ctrl-C ends both")
  .option("-p, --port <number>", "the port to use; without it 4310, or any that is free", portNumber)
  .action(({ port }: { port?: number }) => demo({ port, print: console.log }));

program
  .command("tour")
  .description("read how the cache works: a narrated run over real HTTP, each step with its Cache-Status")
  .option("--no-pause", "do not wait between the steps")
  .action(({ pause }: { pause: boolean }) => tour({ pause: pause && process.stdout.isTTY, print: console.log }));

try {
  await program.parseAsync();
} catch (thrown) {
  if (thrown instanceof CommanderError) process.exitCode = thrown.exitCode === 0 ? 0 : 2;
  else {
    console.error(`cista: ${thrown instanceof Error ? thrown.message : String(thrown)}`);
    process.exitCode = 1;
  }
}

function portNumber(text: string): number {
  const port = Number(text);
  if (/^\d+$/.test(text) && port <= 65535) return port;
  throw new InvalidArgumentError("A port is a whole number from 0 to 65535.");
}
