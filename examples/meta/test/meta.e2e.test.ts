import { mkdtempSync, readdirSync, readFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { join, relative } from "node:path";
import { fileURLToPath } from "node:url";
import type { Browser } from "playwright";
import { afterAll, beforeAll, describe, expect, test } from "vitest";
import { launchChromium } from "../../../scripts/browser.mjs";
import { apps, build, packLibrary, remove, start } from "../apps.mjs";
import { twoVisitors, visit } from "../drive.mjs";

// Each meta-framework's application, with the packed library in a folder of its own: built, started, and driven in a browser.

const at = (path: string) => fileURLToPath(new URL(path, import.meta.url));
const list = { huts: "Harebell Hut, Tarn Shelf, Cairn Hut", me: "Wrenfield", basket: "Wrenfield's 3 nights" };
const asked = (server: string[], browser: string[]) => ({ server, browser });

/** Who asked for what where the framework sends a page in pieces, and where it waits for all of it. */
const streamed = asked(["huts", "me", "notices"], ["basket"]);
const whole = asked(["huts", "me"], ["basket", "notices"]);
/** A link is followed in the browser alone; by a document of its own; by a request to the framework's server. */
const inBrowser = { hut: asked([], ["huts/h-02"]), back: asked([], ["basket", "huts"]) };
const byDocument = { hut: asked(["huts/h-02"], []), back: whole };
const byServer = { hut: asked(["huts/h-02"], []), back: asked(["huts", "me", "notices"], ["basket", "huts"]) };
const expected = {
  "angular-ssr": { first: whole, ...inBrowser },
  astro: { first: whole, ...byDocument },
  next: { first: streamed, ...byServer },
  nuxt: { first: whole, ...inBrowser },
  "react-router": { first: streamed, ...inBrowser },
  "solid-router": { first: streamed, ...inBrowser },
  sveltekit: { first: whole, ...inBrowser },
} as const;

/** All that are built here. META_APPS names some of them, as `npm test` does to save time. */
const chosen = process.env.META_APPS?.split(",") ?? Object.keys(apps);

/** What the frameworks say of themselves. */
const theirOwn = [
  /^npm warn/,
  /No build cache found/,
  /is imported from external module .* but never used/,
  /Future Flag Warning/,
];
/** The library's own file of texts, in a list of what was built. */
const isFile = /warnings-\S+\.js/;
const warningsIn = (said: string) =>
  said
    .split("\n")
    .filter((line) => /warn|⚠/i.test(line) && ![isFile, ...theirOwn].some((known) => known.test(line.trim())));

let browser: Browser;
let packs: string;
let library: string;
beforeAll(async () => {
  browser = await launchChromium();
  packs = mkdtempSync(join(tmpdir(), "cista-pack-"));
  library = packLibrary(packs);
});
afterAll(async () => {
  await browser.close();
  remove(packs);
});

describe.concurrent.each(Object.keys(apps) as (keyof typeof expected)[])("%s", (name) => {
  const builds = test.runIf(chosen.includes(name));
  builds(
    "built without a warning; each value is asked for once, by the server or by the browser",
    {
      timeout: 1_800_000,
    },
    async () => {
      const { folder, said } = await build(name, library);
      expect(warningsIn(said)).toEqual([]);
      const app = await start(folder);
      try {
        const { steps, console, html } = await visit(browser, app.origin);
        const { first, hut, back } = expected[name];
        expect(steps.list).toMatchObject({
          status: 200,
          ...first,
          shown: { ...list, notices: "Bridge out at Slate Beck" },
        });
        expect(html.list).toContain(list.huts);
        expect(steps["to the hut"]).toMatchObject({ ...hut, shown: { hut: "Tarn Shelf" } });
        expect(steps.star).toMatchObject({
          ...asked([], ["PUT huts/h-02/star", "huts/h-02"]),
          shown: { hut: "Tarn Shelf ★" },
        });
        expect(steps["back to the list"]).toMatchObject({
          ...back,
          shown: { huts: expect.stringContaining("Tarn Shelf ★") },
        });
        expect(steps["the hut directly"]).toMatchObject({ ...asked(["huts/h-03"], []), shown: { hut: "Cairn Hut" } });
        expect(steps["no such hut"]).toMatchObject({ status: 404, ...asked(["huts/h-99"], []) });
        expect(console).toEqual([]);
        expect(await twoVisitors(app.origin)).toEqual([]);
        expect(warningsIn(app.said())).toEqual([]);
        expect(app.said()).not.toMatch(/error/i);
      } finally {
        await app.close();
      }
      remove(folder);
    },
  );

  test("its page has the versions that are tried, and each file word for word", () => {
    const page = readFileSync(at(`../../../docs/guide/meta/${name}.md`), "utf8");
    const { dependencies, devDependencies } = JSON.parse(readFileSync(at(`../${name}/package.json`), "utf8"));
    for (const [dependency, version] of Object.entries({ ...dependencies, ...devDependencies })) {
      if (page.includes(`${dependency}@`)) expect(page).toContain(`${dependency}@${version}`);
    }
    const sources = `${apps[name]}/sources.ts`;
    const ofPage = [...page.matchAll(/^`([^`\n]+)`:\n\n```\w+\n(.*?)^```$/gms)].map(([, file = "", text]) => [
      file,
      text,
    ]);
    const files = readdirSync(at(`../${name}`), { recursive: true, withFileTypes: true })
      .filter((each) => each.isFile() && !each.name.startsWith("package"))
      .map((each) => relative(at(`../${name}`), join(each.parentPath, each.name)));
    const own = files.map((file) => [file, readFileSync(at(`../${name}/${file}`), "utf8")]);
    own.push([sources, readFileSync(at("../sources.ts"), "utf8")]);
    expect(Object.fromEntries(ofPage)).toEqual(Object.fromEntries(own));
  });
});
