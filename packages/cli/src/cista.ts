import { Command, CommanderError, InvalidArgumentError, Option } from "commander";
import { version } from "../package.json" with { type: "json" };
import { demo, frameworks } from "./demo.js";
import { probe } from "./probe/index.js";
import { print, printError } from "./terminal.js";
import { tour } from "./tour.js";

const units = { ms: 1, s: 1000, m: 60_000, h: 3_600_000 };

const program = new Command("cista")
  .description(
    "A query cache in the words of the HTTP caching standards: a demo to look at, a tour to read, a probe for endpoints, a look at fleets of servers.",
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

const terminal = { width: process.stdout.columns ?? 200 };

const fleet = program
  .command("fleet")
  .description("look at servers that share what they fetch through Redis (cista/fleet), and invalidate their entries");

/** Each is told where Redis is, and which fleet. */
function fleetCommand(name: string, description: string): Command {
  return fleet
    .command(name)
    .description(description)
    .addOption(
      new Option("--redis <url>", "where Redis is")
        .argParser(redisUrl)
        .env("REDIS_URL")
        .default("redis://127.0.0.1:6379"),
    )
    .option("--name <name>", "the fleet's name; without it the only one that is there");
}

fleetCommand("watch", "what each process does, shown anew each second; Ctrl-C ends it")
  .option("--once", "show it once, and end", false)
  .addHelpText(
    "after",
    `
hits/s       answered each second without asking the source; asked/s: by asking it
memory       answered out of the process' own memory; store: out of Redis; stale: at once, and revalidated in the background
asked        requests to the source; leases: of them for the whole fleet; joined: answered by another's in the process
waited       how often it waited for a request of another process
invalidated  entries that it has invalidated; heard: those of others
failures     calls that Redis did not answer`,
  )
  .action(async (words: FleetWords & { once: boolean }) => {
    const { watchFleet } = await import("./fleet/index.js");
    const clear = () => process.stdout.isTTY && process.stdout.write("\u001b[H\u001b[J");
    if (process.stdout.isTTY && !words.once) process.stdout.write("\u001b[2J\u001b[H");
    await watchFleet({ ...words, once: words.once || !process.stdout.isTTY, ...terminal, print, clear });
  });

fleetCommand("figures", "what each process has done since it began, as counts")
  .option("--json", "print them as JSON", false)
  .action(async (words: FleetWords & { json: boolean }) => {
    const { fleetFigures } = await import("./fleet/index.js");
    await fleetFigures({ ...words, ...terminal, print });
  });

fleetCommand("keys", "which entries are stored, their age, and the groups that invalidate them")
  .option("--group <group>", "only those that bear this group")
  .option("--values", "print the values too: they may be confidential", false)
  .addOption(new Option("--limit <number>", "so many at most").argParser(wholeNumber).default(200))
  .option("--json", "print them as JSON", false)
  .action(
    async ({
      limit: most,
      group,
      ...words
    }: FleetWords & { limit: number; group?: string; values: boolean; json: boolean }) => {
      const { fleetKeys } = await import("./fleet/index.js");
      await fleetKeys({ ...words, group, most, ...terminal, print });
    },
  );

fleetCommand("invalidate", "have nothing be trusted any more that bears a group, is of a source, or has a key")
  .option("--group <group>", "a group; may be given several times", several, [])
  .option("--source <name>", "a source's name; may be given several times", several, [])
  .option("--key <key>", 'an entry\'s key, such as \'hut {"id":"h-07"}\'; may be given several times', several, [])
  .option("--partition <name>", "whose the keys are, where each user has their own")
  .action(
    async ({
      group: groups,
      source: sources,
      key: keys,
      partition,
      ...words
    }: FleetWords & Record<"group" | "source" | "key", string[]> & { partition?: string }) => {
      if (groups.length + sources.length + keys.length === 0) {
        program.error("error: name the entries to invalidate by --group, --source or --key.", { exitCode: 2 });
      }
      const { invalidateInFleet } = await import("./fleet/index.js");
      await invalidateInFleet({ ...words, groups, sources, keys, partition, ...terminal, print });
    },
  );

interface FleetWords {
  redis: string;
  name: string | undefined;
}

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
  if (/^https?:/i.test(text) && URL.canParse(text)) {
    const url = new URL(text);
    if (url.username === "" && url.password === "") return url;
    // The parser's own message would print them.
    program.error(
      "error: the address bears a user name or a password. Say --header 'Authorization: Basic …' in place of it.",
      {
        exitCode: 2,
      },
    );
  }
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

function redisUrl(text: string): string {
  if (/^rediss?:/i.test(text) && URL.canParse(text)) return text;
  throw new InvalidArgumentError("It begins with redis:// or rediss://, such as redis://127.0.0.1:6379.");
}

function several(text: string, before: string[]): string[] {
  return [...before, text];
}

function wholeNumber(text: string): number {
  if (/^\d{1,6}$/.test(text)) return Number(text);
  throw new InvalidArgumentError("It is a whole number.");
}

function portNumber(text: string): number {
  const port = Number(text);
  if (/^\d+$/.test(text) && port <= 65535) return port;
  throw new InvalidArgumentError("A port is a whole number from 0 to 65535.");
}
