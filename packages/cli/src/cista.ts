import { Command, CommanderError, InvalidArgumentError, Option } from "commander";
import { version } from "../package.json" with { type: "json" };
import { demo, frameworks } from "./demo.js";
import { probe } from "./probe/index.js";
import { print, printError } from "./terminal.js";
import { tour } from "./tour.js";

const units = { ms: 1, s: 1000, m: 60_000, h: 3_600_000 };

const program = new Command("cista")
  .description(
    "A query cache in the words of the HTTP caching standards: a demo to look at, a tour to read, a probe for endpoints.",
  )
  .version(version)
  .showHelpAfterError("(cista --help shows what there is)")
  .exitOverride()
  .configureOutput({ writeOut: (text) => print(text.trimEnd()), writeErr: (text) => printError(text.trimEnd()) })
  .addHelpText(
    "after",
    "\nExit codes: 0 all went well, 1 something failed (the message says what), 2 the call's words are off.",
  );

program
  .command("demo")
  .description("start the hut network and its board, and print one address; Ctrl-C ends both")
  .option("-p, --port <number>", "the port to use; without it 4310, or any that is free", portNumber)
  .addOption(
    new Option("--with <framework>", "the small board in one framework, in place of the large one in React").choices(
      frameworks,
    ),
  )
  .action(({ port, with: framework }: { port?: number; with?: string }) => demo({ port, framework, print }));

program
  .command("tour")
  .description("read how the cache works: a narrated run over real HTTP, each step with its Cache-Status")
  .option("--no-pause", "do not wait between the steps")
  .action(({ pause }: { pause: boolean }) => tour({ pause: pause && process.stdout.isTTY, print }));

program
  .command("probe")
  .argument("<url>", "the endpoint's whole address", absoluteUrl)
  .description("tell what Cista will do with an endpoint: asks twice, the second time conditionally")
  .option("-H, --header <name: value>", "a request header; may be given several times", header, new Headers())
  .option("-X, --method <method>", "the request's method; without it GET, or POST where there is data")
  .option("-d, --data <text>", "the request's body")
  .addOption(
    new Option("--timeout <time>", "how long to wait for each answer: 3, 3s, 500ms, 2m")
      .argParser(lengthOfTime)
      .default(10_000, "10s"),
  )
  .option("--json", "print what was found as JSON", false)
  .action((url: URL, { header: headers, method, data: body, timeout, json }: ProbeWords) =>
    probe({
      url,
      method: (method ?? (body === undefined ? "GET" : "POST")).toUpperCase(),
      headers,
      body,
      timeout,
      json,
      print,
    }),
  );

interface ProbeWords {
  header: Headers;
  method?: string;
  data?: string;
  timeout: number;
  json: boolean;
}

try {
  await program.parseAsync();
} catch (thrown) {
  if (thrown instanceof CommanderError) process.exitCode = thrown.exitCode === 0 ? 0 : 2;
  else {
    printError(`cista: ${thrown instanceof Error ? thrown.message : String(thrown)}`);
    process.exitCode = 1;
  }
}

function absoluteUrl(text: string): URL {
  if (/^https?:/i.test(text) && URL.canParse(text)) return new URL(text);
  throw new InvalidArgumentError(
    "It is absolute and begins with http:// or https://, such as http://127.0.0.1:4310/api/huts.",
  );
}

function header(text: string, headers: Headers): Headers {
  const [, name = "", value = ""] = /^([^:\s]+):(.*)$/.exec(text) ?? [];
  try {
    headers.append(name, value.trim());
    return headers;
  } catch {
    throw new InvalidArgumentError('A header is a name, a colon and a value, such as "Accept: application/json".');
  }
}

/** In milliseconds; a number without a unit is seconds. */
function lengthOfTime(text: string): number {
  const [, number, unit = "s"] = /^(\d+(?:\.\d+)?|\.\d+)(ms|s|m|h)?$/.exec(text) ?? [];
  const length = Number(number) * units[unit as keyof typeof units];
  if (length > 0 && length <= units.h) return length;
  throw new InvalidArgumentError("A time-out is a length of time such as 3s or 500ms, more than 0 and at most 1h.");
}

function portNumber(text: string): number {
  const port = Number(text);
  if (/^\d+$/.test(text) && port <= 65535) return port;
  throw new InvalidArgumentError("A port is a whole number from 0 to 65535.");
}
