// The commonest mistakes of a program, and what the compiler says of each. What is said while a program runs is tested
// where it is said.
import { readFileSync } from "node:fs";
import { fileURLToPath } from "node:url";
import ts from "typescript";
import { beforeAll, expect, test } from "vitest";

const root = fileURLToPath(new URL("../../..", import.meta.url));

const program = `
import { createCache, type Reading, source, write } from "cista";
import { origin, writeTo } from "cista/http";
import { Outcome, useReading, useReadings, useValue, useWrite } from "cista/react";
import { useReading as useVueReading } from "cista/vue";
interface Hut { id: string; name: string; bunks: number }
declare const reading: Reading<Hut>;
const cache = createCache();
const api = origin({ base: "https://huts.example" });
const hut = source({ name: "hut", load: async ({ id }: { id: string }): Promise<Hut> => ({ id, name: "Fern", bunks: 4 }) });
const huts = source({ name: "huts", load: async (): Promise<Hut[]> => [] });
const book = write({ name: "book", send: async ({ hut }: { hut: string; night: string }) => hut });
`;

/** A line of a program each, and words of what is said of it. */
const mistakes: readonly [mistake: string, line: string, ...said: string[]][] = [
  ["params left out in a component", "useReading(hut)", "takes params", "pass undefined while they are not known"],
  ["params left out in Vue", "useVueReading(hut)", "takes params"],
  ["params left out for a value", "useValue(hut)", "takes params"],
  ["params left out in a read", "cache.read(hut)", "takes params: pass them after the source"],
  ["params left out for one entry", "cache.at(hut).put(reading.value!)", "takes params"],
  ["params of another name", 'useReading(hut, { idd: "h-07" })', "'idd' does not exist in type '{ id: string; }'"],
  ["params of another type", "useReading(hut, { id: 7 })", "Type 'number' is not assignable to type 'string'"],
  ["params that are not known yet", "useReading(hut, { id: reading.value?.id })", "'undefined' is not assignable"],
  ["params for a source without", 'useReading(huts, { id: "h-07" })', "'id' does not exist in type 'ReadingOptions<"],
  ["params for one in place of a list", 'useReadings(hut, { id: "h-07" })', "readonly NoInfer<{ id: string; }>[]"],
  ["params beside what is invalidated", 'cache.invalidate(hut, { id: "h-07" })', "one argument: { source, params }"],
  ["an option of another name", "useReading(huts, { pik: () => 1 })", "Did you mean to write 'pick'?"],
  ["an option of a source", 'source({ name: "a", load: () => 1, maxage: "5s" })', "Did you mean to write 'maxAge'?"],
  [
    "no params, and a load that names some",
    'source({ name: "a", load: async (_, { signal }) => signal.aborted })',
    "{ params: false; } | { load(): unknown; }",
  ],
  ["a time that is none", 'source({ name: "a", load: () => 1, maxAge: "5 sek" })', "not assignable to type 'Duration'"],
  ["a value that may not be there", "reading.value.name", "'reading.value' is possibly 'undefined'"],
  ["a member of a value", "<Outcome of={reading}>{({ nam }) => nam}</Outcome>", "'nam' does not exist on type 'Hut'"],
  [
    "a state by another name",
    "<Outcome of={reading} error={null}>{() => 1}</Outcome>",
    "Property 'error' does not exist",
  ],
  ["half a value", 'cache.put(hut, { id: "h-07" }, { id: "h-07", name: "Fern" })', "Property 'bunks' is missing"],
  [
    "a patch that returns nothing",
    'cache.at(hut, { id: "a" }).patch((now) => { now.bunks; })',
    "not assignable to type 'Hut'",
  ],
  ["half an input", 'cache.run(book, { hut: "h-07" })', "Property 'night' is missing"],
  ["a write that is read", 'useReading(book, { hut: "h-07" })', "Property 'load' is missing"],
  ["a source that is run", "useWrite(hut)", "Property 'send' is missing"],
  [
    "a read over HTTP without a type",
    'useReading(api.source({ name: "a", url: "/a" })).value?.id',
    "does not exist on type '{}'",
  ],
  ["a write over HTTP of a wrong method", 'writeTo(api, { name: "a", method: "GET", url: "/a" })', '"GET"'],
];

const said = new Map<number, string>();

beforeAll(() => {
  const file = `${root}packages/cista/test/mistakes.tsx`;
  const text = program + mistakes.map(([, line], index) => `export const m${index} = () => ${line};\n`).join("");
  const { compilerOptions } = ts.parseConfigFileTextToJson(
    "",
    readFileSync(`${root}tsconfig.base.json`, "utf8"),
  ).config;
  const paths = { cista: ["./packages/cista/src/index.ts"], "cista/*": ["./packages/cista/src/*/index.ts"] };
  const { options } = ts.convertCompilerOptionsFromJson({ ...compilerOptions, paths, types: [] }, root);
  const host = ts.createCompilerHost(options);
  const { getSourceFile } = host;
  host.getSourceFile = (name, ...rest) =>
    name === file ? ts.createSourceFile(name, text, ts.ScriptTarget.ES2022, true) : getSourceFile(name, ...rest);
  const flavour = `${root}packages/cista/src/flavour.d.ts`;
  const all = ts.createProgram([file, flavour], options, host);
  const parsed = all.getSourceFile(file) as ts.SourceFile;
  for (const { start = 0, messageText } of all.getSemanticDiagnostics(parsed)) {
    const { line } = parsed.getLineAndCharacterOfPosition(start);
    const before = said.get(line) ?? "";
    said.set(line, `${before}${ts.flattenDiagnosticMessageText(messageText, "\n")}\n`);
  }
});

const first = program.split("\n").length - 1;

test("nothing is said of a program without mistakes", () => {
  expect([...said.keys()].filter((line) => line < first)).toEqual([]);
});

for (const [index, [mistake, line, ...words]] of mistakes.entries()) {
  test(`the compiler names ${mistake}: ${line}`, () => {
    for (const word of words) expect(said.get(first + index) ?? "nothing").toContain(word);
  });
}
