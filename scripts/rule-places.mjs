// Makes docs/rule-places.md from the code: `npm run architecture`. A test holds the page against it.
// A rule lives where a comment calls it by its number, and where the mutation check breaks it. Its tests have titles that begin with it.
import { readdirSync, readFileSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { mutations } from "./mutations/index.mjs";
import { sourceFiles, src } from "./rooms.mjs";

const root = fileURLToPath(new URL("..", import.meta.url));
export const path = join(root, "docs/rule-places.md");

/** The rules of docs/rules.md: [number, title]. */
export const rules = [...readFileSync(join(root, "docs/rules.md"), "utf8").matchAll(/^### ([A-Z]\d+)\. (.+)$/gm)].map(
  ([, number, title]) => [number, title],
);

/** The numbers that a text calls: "rule F9", "rules B1, B3 and B5", "Rules T1 to T12". */
export function numbersIn(text) {
  const calls = text.matchAll(/\brules? ([A-Z]\d+(?:(?:, | and | to )[A-Z]\d+)*)/gi);
  return [...calls].flatMap(([, some]) =>
    some.split(/, | and /).flatMap((part) => {
      const [first, last = first] = part.split(" to ");
      const [from, to] = [first, last].map((number) => Number(number.slice(1)));
      return Array.from({ length: to - from + 1 }, (_, at) => first[0] + (from + at));
    }),
  );
}

/** The files of the library in which a rule lives, beneath packages/cista/src. */
export function homesOf(number) {
  const isBroken = (file) =>
    mutations.some(
      ([name, place]) => (name === number || name.startsWith(`${number} `)) && `/${file}`.endsWith(`/${place}`),
    );
  return sourceFiles().filter((file) => numbersIn(textOf(join(src, file))).includes(number) || isBroken(file));
}

/** The files with tests whose titles begin with a rule, from the repository's root. */
export function testsOf(number) {
  const begins = new RegExp(`["\`](?:[A-Z]\\d+, )*${number}\\b[:,]`);
  return testFiles.filter((file) => begins.test(textOf(join(root, file))));
}

const texts = new Map();
function textOf(file) {
  if (!texts.has(file)) texts.set(file, readFileSync(file, "utf8"));
  return texts.get(file);
}

const testFiles = ["packages/cista", "packages/cli", "examples/board-react", "examples/static"].flatMap((room) =>
  readdirSync(join(root, room, "test"), { recursive: true, encoding: "utf8" })
    .filter((file) => /\.test\.(svelte\.)?tsx?$/.test(file) || /(suite|servers)\.ts$/.test(file))
    .map((file) => `${room}/test/${file}`),
);

export function placesPage() {
  const rows = rules.map(([number, title]) => {
    const list = (files) => files.map((file) => `\`${file}\``).join(", ");
    const short = (file) => file.replace("packages/cista/test/", "");
    return `| ${number} | ${title} | ${list(homesOf(number).sort())} | ${list(testsOf(number).map(short).sort())} |`;
  });
  return `# Where each rule lives

Made from the code by \`npm run architecture\`. The rules are in [rules.md](rules.md). Files of the library are beneath
\`packages/cista/src\`, its tests beneath \`packages/cista/test\`.

| Rule | | Lives in | Tested in |
|---|---|---|---|
${rows.join("\n")}
`;
}

if (process.argv[1] === fileURLToPath(import.meta.url)) writeFileSync(path, placesPage());
