import { existsSync, readdirSync, readFileSync } from "node:fs";
import { fileURLToPath } from "node:url";
import { expect, test } from "vitest";
import { mutations, patternOf } from "../../../scripts/mutations.mjs";

const at = (path: string) => fileURLToPath(new URL(path, import.meta.url));
const src = at("../src/");
const page = readFileSync(at("../../../docs/rules.md"), "utf8");
const rows = [...page.matchAll(/^\| ([A-Z]\d) \|.*\| (.*) \|$/gm)].map(([, rule, homes]) => ({
  rule: rule as string,
  homes: [...(homes as string).matchAll(/`([^`]+)`/g)].map(([, file]) => file as string),
}));
const named = (text: string) => [...text.matchAll(/\brules? ((?:[A-Z]\d)(?:(?:, | and )[A-Z]\d)*)/gi)];

test("docs/rules.md has every rule that the code calls by its number, and says where it lives", () => {
  const files = readdirSync(src, { recursive: true, encoding: "utf8" }).filter((file) => file.endsWith(".ts"));
  const called = files.flatMap((file) =>
    named(readFileSync(src + file, "utf8")).flatMap(([, rules]) => (rules as string).split(/, | and /)),
  );
  expect(called.length).toBeGreaterThan(30);
  expect(rows.map(({ rule }) => rule)).toEqual(expect.arrayContaining([...new Set(called)]));
  for (const { homes } of rows) {
    expect(homes.length).toBeGreaterThan(0);
    for (const home of homes) expect([home, existsSync(src + home)]).toEqual([home, true]);
  }
});

test("every rule is broken by the mutation check, but for those of other rooms", () => {
  const broken = mutations.map(([rule]) => rule);
  const unbroken = rows.filter(
    ({ rule, homes }) => !broken.some((each) => each.startsWith(rule)) && homes[0]?.startsWith("core/"),
  );
  expect(unbroken).toEqual([]);
});

test("what the mutation check breaks stands in the code exactly once", () => {
  const files = readdirSync(src, { recursive: true, encoding: "utf8" });
  const wrong = mutations.filter(([, file, from]) => {
    const path = files.find((each) => each.endsWith(`/${file}`));
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
