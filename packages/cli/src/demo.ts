import { existsSync } from "node:fs";
import { fileURLToPath } from "node:url";
import { type RunningOrigin, startOrigin } from "@cista/example-origin";
import { colours } from "./terminal.js";

const usualPort = 4310;

/** In which the small board is written, each at an address of its own. */
export const frameworks: readonly string[] = ["vue", "svelte", "solid", "angular", "lit", "preact", "plain"];

interface DemoOptions {
  port: number | undefined;
  /** Which board is meant: one of `frameworks`; without it the large one in React. */
  framework: string | undefined;
  print(line: string): void;
}

/** Serves the board and the origin behind it until the process is told to end. */
export async function demo({ port, framework, print }: DemoOptions): Promise<void> {
  const files = fileURLToPath(new URL("./board", import.meta.url));
  if (!existsSync(files)) throw new Error('The board is not built. Run "npm run build" first.');
  const told = stopAsked(); // before anything is printed: whoever reads it may end the demo at once
  const origin = await started(port, files, print);
  if (framework) {
    print(`
${colours.bold(`The small board in ${named(framework)}`)}   ${colours.cyan(`${origin.url}/${framework}/`)}

Things to try there:
  Search, choose a region, choose a hut, and "Ask now".
  Book a bunk: the header and the free bunks change in one frame; book the same night again: refused, and taken back.
  ${colours.cyan(`${origin.url}/${framework}/#h-99`)} is a hut that does not exist.

Ctrl-C ends the demo.`);
  } else {
    print(`
${colours.bold("The Greyfell hut board")}   ${colours.cyan(origin.url)}

Things to try there:
  Choose a hut, another, and the first again: within a minute it is shown without a request.
  Leave one open: after 60 s its lamp burns half; choose another and come back, and it is shown, and revalidated in the background.
  Reload the page: what it held is there at once, as old as it is; the basket, which is no-store, is asked for.
  Book a bunk: the header, the basket and the free bunks change at once, and back if the hut turns out to be full.
  Open the board in a second tab: it asks for nothing that the first one holds, and a booking in one is in both.
  Work offline (the browser's developer tools), book a bunk, close the tab, go online, open the board: it is booked, once.
  Press a panel's lamp: what it holds, what happened and why, and what that source can be made to do.
  Set the origin to slow, failing or absent (bottom right), then press "Ask now" or choose other huts.
  ${colours.cyan(`${origin.url}/#h-99`)} is a hut that does not exist.

A smaller board, the same in every framework:
${frameworks.map((name) => `  ${named(name).padEnd(20)} ${colours.cyan(`${origin.url}/${name}/`)}`).join("\n")}

Ctrl-C ends the demo.`);
  }
  await told;
  print("\nStopping.");
  await origin.close();
  // The second Ctrl-C of the same key press is still to find somebody who listens.
  await new Promise((resolve) => setTimeout(resolve, lastWord));
}

function named(framework: string): string {
  return framework === "plain" ? "no framework" : framework[0]?.toUpperCase() + framework.slice(1);
}

/** In milliseconds. */
const lastWord = 300;

/** On the port that was named; else on the usual one, or on any that is free. */
async function started(
  named: number | undefined,
  files: string,
  print: (line: string) => void,
): Promise<RunningOrigin> {
  try {
    return await startOrigin({ port: named ?? usualPort, files });
  } catch (thrown) {
    if ((thrown as { code?: string }).code !== "EADDRINUSE") throw thrown;
    if (named !== undefined) {
      throw new Error(
        `Port ${named} is taken by another program. Name another one with --port, or none to have one chosen.`,
      );
    }
    print(`Port ${usualPort} is taken by another program, so another one was chosen.`);
    return startOrigin({ files });
  }
}

/** Listens on after the first: Ctrl-C may come twice, from the terminal and from whoever hands it on. */
function stopAsked(): Promise<void> {
  return new Promise((resolve) => {
    for (const signal of ["SIGINT", "SIGTERM"] as const) process.on(signal, () => resolve());
  });
}
