/// <reference types="vite/client" />
import { expect, test, vi } from "vitest";

// Every page of the guide has a program, and says what that prints: both are as in the page, word for word. What stands for
// the server, and what drives the program, is not on the page.
const programs = import.meta.glob<object>("../src/[0-9]*");
const texts = import.meta.glob<string>("../src/[0-9]*", { query: "?raw", import: "default" });
const pages = import.meta.glob<string>("../../../docs/guide/[0-9]*.md", { query: "?raw", import: "default" });
function shown(program: string): string {
  const text = program
    .replace(/\/\/ #region harness\n.*?\/\/ #endregion\n/gs, "")
    .replace(/import \{ [^}]* \} from "\.\/(greyfell|page)\.js";\n/g, "")
    .replace(/\n{3,}/g, "\n\n");
  const isUsed = (name: string) => text.split(new RegExp(`\\b${name.replace("type ", "")}\\b`)).length > 2;
  const imports = text.replace(/^import \{ ([^}]*) \} from (.*)\n/gm, (_, names: string, from: string) => {
    const used = names.split(", ").filter(isUsed);
    return used.length > 0 ? `import { ${used.join(", ")} } from ${from}\n` : "";
  });
  return `${imports.trim()}\n`;
}
const pageOf = (program: string) => program.replace(/^.*\/(.*)\.tsx?$/, "../../../docs/guide/$1.md");

test("every page has a program, and every program a page", () => {
  expect(Object.keys(pages)).toEqual(Object.keys(programs).map(pageOf));
  expect(Object.keys(pages)).toHaveLength(17);
});

test.each(Object.keys(programs))("%s prints the output that its page shows", async (path) => {
  const said: string[] = [];
  const log = vi.spyOn(console, "log").mockImplementation((...parts) => {
    said.push(parts.map((part) => (typeof part === "string" ? part : JSON.stringify(part))).join(" "));
  });
  const { fetch } = globalThis;
  await programs[path]?.();
  globalThis.fetch = fetch;
  log.mockRestore();
  const page = (await pages[pageOf(path)]?.()) ?? "";
  const blocks = [...page.matchAll(/```(\w*)\n(.*?)```/gs)];
  const printed = said.map((line) => `${line.trimEnd()}\n`).join("");
  expect(blocks.at(0)?.[2]).toBe(shown((await texts[path]?.()) ?? ""));
  expect(blocks.at(1)?.[2]).toBe(printed);
});
