import { readdirSync, readFileSync } from "node:fs";
import { fileURLToPath } from "node:url";
import ts from "typescript";
import { expect, test } from "vitest";
import { paths as madeFiles, picture, withTables } from "../../../scripts/architecture.mjs";
import { mutations, patternOf } from "../../../scripts/mutations/index.mjs";
import { forbiddenImports, roomOf, rooms, sourceFiles } from "../../../scripts/rooms.mjs";
import { homesOf, numbersIn, path as places, placesPage, rules, testsOf } from "../../../scripts/rule-places.mjs";

const at = (path: string) => fileURLToPath(new URL(path, import.meta.url));
const src = at("../src/");
test("docs/rules.md has a rule for each number that the code calls, and each of its headings is a rule", () => {
  const numbers = rules.map(([number]) => number);
  const called = sourceFiles().flatMap((file) => numbersIn(readFileSync(`${src}${file}`, "utf8")));
  expect(called.length).toBeGreaterThan(30);
  expect(called.filter((number) => !numbers.includes(number))).toEqual([]);
  expect(numbers).toHaveLength(readFileSync(at("../../../docs/rules.md"), "utf8").match(/^### /gm)?.length ?? 0);
});

test.each(rules)("%s lives in a file of the library, and has tests that begin with it: %s", (number) => {
  expect(homesOf(number)).not.toEqual([]);
  expect(testsOf(number)).not.toEqual([]);
});

test("docs/rule-places.md is as the code is (npm run architecture)", () => {
  expect(readFileSync(places, "utf8")).toBe(placesPage());
});

test("every rule of the core is broken by the mutation check", () => {
  const broken = mutations.map(([name]) => name.split(" ")[0]);
  const ofCore = rules.filter(([number]) => homesOf(number).some((file) => file.startsWith("core/")));
  expect(ofCore.length).toBeGreaterThan(30);
  expect(ofCore.filter(([number]) => !broken.includes(number))).toEqual([]);
});

test("the code that the mutation check breaks stands exactly once, in one file of that name", () => {
  const files = readdirSync(src, { recursive: true, encoding: "utf8" });
  const wrong = mutations.filter(([, file, from]) => {
    const [path, ...others] = files.filter((each) => `/${each}`.endsWith(`/${file}`));
    return !path || others.length > 0 || readFileSync(src + path, "utf8").match(patternOf(from))?.length !== 1;
  });
  expect(wrong).toEqual([]);
});

test("docs/errors.md has every code of CistaError, and no other", () => {
  const listed = [...readFileSync(at("../../../docs/errors.md"), "utf8").matchAll(/^\| `([a-z-]+)` \|/gm)].map(
    ([, code]) => code,
  );
  const type = readFileSync(`${src}core/api/failure.ts`, "utf8").split("type CistaErrorCode =")[1]?.split(";")[0] ?? "";
  expect(listed).toEqual([...type.matchAll(/"([a-z-]+)"/g)].map(([, code]) => code));
});

test("no room imports a room that it may not, and every room has a rule (scripts/rooms.mjs)", () => {
  expect(sourceFiles().flatMap((file) => forbiddenImports(file))).toEqual([]);
  expect([...new Set(sourceFiles().map(roomOf))].sort()).toEqual(Object.keys(rooms).sort());
});

test.each(Object.keys(rooms))("an import that the room %s may not have is refused", (room) => {
  const file = room === "cista" ? "new.ts" : `${room}/new.ts`;
  const up = "../".repeat(file.split("/").length - 1) || "./";
  const other = Object.keys(rooms).find((each) => each !== room && !rooms[room]?.mayImport.includes(each)) as string;
  const toRoom = (path: string) => forbiddenImports(file, `import { x } from "${up}${path}";`);
  expect(toRoom(`${other}/x.js`)).toEqual([expect.stringContaining(`${file} imports ${other}/x.ts`)]);
  if (!room.startsWith("core")) expect(toRoom("core/state/entry.js")).toHaveLength(1); // past the doors
  const doors = sourceFiles().filter((each) => each.startsWith("core/doors/"));
  const closed = doors.find((each) => !room.startsWith("core") && !rooms[room]?.mayImport.includes(each));
  if (closed) expect(toRoom(closed)).toHaveLength(1);
  expect(toRoom(`${room === "cista" ? "" : `${room}/`}x.js`)).toEqual([]);
});

test("ARCHITECTURE.md and its picture are as the code is (npm run architecture)", () => {
  const page = readFileSync(madeFiles.page, "utf8");
  expect(withTables(page)).toBe(page);
  expect(withTables(page.replaceAll("| 1 |", "| 0 |"))).toBe(page); // what stands there is replaced
  expect(readFileSync(madeFiles.picture, "utf8")).toBe(picture());
});

test.each([
  ["journal-format.md", "Cause"],
  ["debugging.md", "Cause"],
  ["journal-format.md", "JournalKind"],
])("docs/%s names each %s of the journal", (file, type) => {
  const text = readFileSync(`${src}core/api/journal.ts`, "utf8").split(`type ${type} =`)[1]?.split(";")[0] ?? "";
  const words = [...text.matchAll(/"([\w-]+)"/g)].map(([, word]) => word);
  const doc = readFileSync(at(`../../../docs/${file}`), "utf8");
  expect(words.length).toBeGreaterThan(5);
  expect(words.filter((word) => !doc.includes(`\`${word}\``))).toEqual([]);
});

/** The members of an interface or a type, as the library's source says it. */
function membersOf(file: string, type: string): readonly string[] {
  const names = new Set<string>();
  const visit = (node: ts.Node, isWithin: boolean): void => {
    const isType = ts.isInterfaceDeclaration(node) || ts.isTypeAliasDeclaration(node);
    const within = isWithin || (isType && node.name.text === type);
    if (within && (ts.isPropertySignature(node) || ts.isMethodSignature(node))) names.add(node.name.getText());
    ts.forEachChild(node, (child) => visit(child, within));
  };
  const code = readFileSync(src + file, "utf8");
  visit(ts.createSourceFile(file, code, ts.ScriptTarget.ESNext, true), false);
  return [...names];
}

const allPages = readdirSync(at("../../../docs"), { recursive: true, encoding: "utf8" }).filter(
  (path) => path.endsWith(".md") && !path.startsWith("reference"),
);

test.each([
  ["core/api/journal.ts", "JournalEvent", ["journal-format.md"]],
  ["core/api/stored.ts", "Snapshot", ["snapshot-format.md"]],
  ["core/api/stored.ts", "StoredEntry", ["snapshot-format.md"]],
  ["browser/tabs/messages.ts", "Body", ["tabs-protocol.md"]],
  ["browser/tabs/messages.ts", "News", ["tabs-protocol.md"]],
  ["browser/outbox/records.ts", "KeptRecord", ["outbox-format.md"]],
  ["core/api/freshness.ts", "Freshness", allPages],
  ["core/api/settings.ts", "Defaults", allPages],
  ["core/api/settings.ts", "Retry", allPages],
  ["core/api/settings.ts", "SourceSettings", allPages],
  ["core/api/source-contract.ts", "SourceDefinition", allPages],
  ["core/api/write-contract.ts", "WriteDefinition", allPages],
  ["http/contract.ts", "HttpSourceDefinition", allPages],
  ["http/contract.ts", "PagesDefinition", allPages],
  ["http/contract.ts", "EventsDefinition", allPages],
  ["http/contract.ts", "GraphqlDefinition", allPages],
  ["http/contract.ts", "HttpWriteDefinition", allPages],
  ["core/api/reading.ts", "Ready", allPages],
] as const)("the docs name each member of %s: %s", (file, type, pages) => {
  const members = membersOf(file, type);
  const texts = pages.map((page) => readFileSync(at(`../../../docs/${page}`), "utf8"));
  const code = texts.flatMap((text) => text.match(/`[^`\n]+`/g) ?? []).join(" ");
  expect(members.length).toBeGreaterThan(1);
  expect(members.filter((name) => !new RegExp(`\\b${name}\\b`).test(code))).toEqual([]);
});

test("the page of testing has the helpers' program word for word", () => {
  const text = (path: string) => readFileSync(new URL(`../../../${path}`, import.meta.url), "utf8");
  expect(text("docs/guide/recipes/testing.md")).toContain(text("examples/guide/test/helpers.test.ts"));
});
