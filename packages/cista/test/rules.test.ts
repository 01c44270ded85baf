import { existsSync, readdirSync, readFileSync } from "node:fs";
import { fileURLToPath } from "node:url";
import { expect, test } from "vitest";
import { paths as madeFiles, picture, withTables } from "../../../scripts/architecture.mjs";
import { mutations, patternOf } from "../../../scripts/mutations/index.mjs";
import { forbiddenImports, roomOf, rooms, sourceFiles } from "../../../scripts/rooms.mjs";

const at = (path: string) => fileURLToPath(new URL(path, import.meta.url));
const src = at("../src/");
const here = at("./");
const page = readFileSync(at("../../../docs/rules.md"), "utf8");
const paths = (text: string) => [...text.matchAll(/`([^`]+)`/g)].map(([, path]) => path as string);
const rules = page
  .split(/^### /m)
  .slice(1)
  .map((section) => {
    const [last = ""] = section.split("\n\n").filter((paragraph) => paragraph.startsWith("Lives in "));
    const [homes = "", tests = ""] = last.split("Tested in");
    return { rule: section.slice(0, section.indexOf(".")), homes: paths(homes), tests: paths(tests) };
  });
const called = (text: string) =>
  [...text.matchAll(/\brules? ((?:[A-Z]\d)(?:(?:, | and )[A-Z]\d)*)/gi)].flatMap(([, some]) =>
    (some as string).split(/, | and /),
  );

test("docs/rules.md has one heading a rule, and every rule that the code calls by its number", () => {
  const files = readdirSync(src, { recursive: true, encoding: "utf8" }).filter((file) => file.endsWith(".ts"));
  const numbers = files.flatMap((file) => called(readFileSync(src + file, "utf8")));
  expect(numbers.length).toBeGreaterThan(30);
  expect(rules.map(({ rule }) => rule)).toEqual(expect.arrayContaining([...new Set(numbers)]));
  expect(rules).toHaveLength(page.match(/^### /gm)?.length ?? 0);
});

test.each(rules)("$rule lives in the files that docs/rules.md names", ({ homes }) => {
  expect(homes.filter((home) => !existsSync(src + home))).toEqual([]);
  expect(homes.length).toBeGreaterThan(0);
});

test.each(rules)("$rule has tests that begin with it in the files that docs/rules.md names", ({ rule, tests }) => {
  const begins = new RegExp(`["\`](?:[A-Z]\\d, )*${rule}\\b[:,]`);
  const without = tests.filter((file) => {
    const path = file.includes("/") ? at(`../../../${file}`) : here + file;
    return !existsSync(path) || !begins.test(readFileSync(path, "utf8"));
  });
  expect(without).toEqual([]);
  expect(tests.length).toBeGreaterThan(0);
});

test.each(mutations)("the mutation %s breaks a file in which its rule lives", (name, file) => {
  const rule = rules.find((each) => name.startsWith(`${each.rule} `) || name === each.rule);
  if (rule) expect(rule.homes.some((home) => `/${home}`.endsWith(`/${file}`))).toBe(true);
  else expect(name).toMatch(/^(live|keys|HTTP|http|[a-z])/);
});

test("every rule is broken by the mutation check, but for those of other rooms", () => {
  const broken = mutations.map(([rule]) => rule);
  const unbroken = rules.filter(
    ({ rule, homes }) => !broken.some((each) => each.startsWith(rule)) && homes[0]?.startsWith("core/"),
  );
  expect(unbroken).toEqual([]);
});

test("what the mutation check breaks stands in the code exactly once", () => {
  const files = readdirSync(src, { recursive: true, encoding: "utf8" });
  const wrong = mutations.filter(([, file, from]) => {
    const path = files.find((each) => `/${each}`.endsWith(`/${file}`));
    return !path || readFileSync(src + path, "utf8").match(patternOf(from))?.length !== 1;
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

test("no room imports what it may not, and every room has a rule (scripts/rooms.mjs)", () => {
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
  expect(toRoom(`${room === "cista" ? "" : `${room}/`}x.js`)).toEqual([]);
});

test("ARCHITECTURE.md and its picture are as the code is (npm run architecture)", () => {
  const page = readFileSync(madeFiles.page, "utf8");
  expect(withTables(page)).toBe(page);
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

test("the page of testing has the helpers' program word for word", () => {
  const text = (path: string) => readFileSync(new URL(`../../../${path}`, import.meta.url), "utf8");
  expect(text("docs/guide/recipes/testing.md")).toContain(text("examples/guide/test/helpers.test.ts"));
});
