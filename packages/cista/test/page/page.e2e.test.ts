import { afterAll, afterEach, beforeAll, describe, expect, test } from "vitest";
import type { Renderer } from "./server.js";
import { answers, hydrated, idle, PageStage, pressed, reactPage, recovered, settled, shown } from "./stage.js";

// A page rendered on a real server and hydrated in a real browser: who asked for what, and what was seen. Rules H1 to H10.

const stage = new PageStage();
const { asked, ended } = stage;

const flavours = [
  { react: "19", mode: "development" },
  { react: "19", mode: "production" },
  { react: "18", mode: "development" },
  { react: "18", mode: "production" },
] as const;

describe.each(process.env.PROVE_QUICK ? flavours.slice(0, 1) : flavours)("React $react in $mode", (flavour) => {
  beforeAll(() => reactPage(flavour).then((page) => stage.begin(page)));
  afterAll(() => stage.end());
  afterEach(() => stage.clear());

  test.each(["node", "web", "string"] as Renderer[])(
    "H1, H2: the browser asks for nothing that the server has asked, and shows the same words (%s)",
    async (renderer) => {
      stage.visit = { ...stage.visit, renderer };
      const names = ["quick", "no-cache", "v-no-cache", "stale", "v-stale", "silent", "missing", "hostile"];
      const tab = await stage.open(names.join());
      await hydrated(tab);
      expect([...asked].sort()).toEqual(names.map((name) => `server ${name}`).sort());
      for (const name of ["quick", "no-cache", "stale", "silent"])
        expect(await shown(tab, name)).toBe(`${name}: ready ${name} 1`);
      for (const name of ["v-no-cache", "v-stale"]) expect(await shown(tab, name)).toBe(`${name}: ${name} 1`);
      expect(await shown(tab, "missing")).toBe("missing: missing ");
      expect(await shown(tab, "hostile")).toBe(`hostile: ready ${answers.hostile?.text}`);
      expect(await recovered(tab)).toEqual([]);
      await tab.close();
    },
  );

  test("under a strict Content-Security-Policy with Trusted Types hostile values arrive as they are, also streamed", async () => {
    const nonce = "Zm9yLXRoaXMtcGFnZQ";
    stage.visit = { ...stage.visit, nonce };
    const others = flavour.react === "18" ? "'self'" : "'strict-dynamic'"; // React 18 gives its module scripts no nonce
    stage.headers = {
      "content-security-policy": `default-src 'self'; script-src 'nonce-${nonce}' ${others}; require-trusted-types-for 'script'; trusted-types 'none'`,
    };
    answers["hostile-late"] = { ...answers.hostile };
    const release = stage.holdBack("hostile-late");
    const tab = await stage.open("hostile,hostile-late");
    await tab.locator('p[id="wait-hostile-late"]').waitFor({ state: "attached" });
    release();
    await tab.locator('p[id="hostile-late"]:visible').waitFor();
    await hydrated(tab);
    for (const name of ["hostile", "hostile-late"])
      expect(await shown(tab, name)).toBe(`${name}: ready ${answers.hostile?.text}`);
    expect(asked.sort()).toEqual(["server hostile", "server hostile-late"]);
    await tab.close();
  });

  test("back and forward: a fresh value is not asked for again, from the browser's page cache or the server", async () => {
    const tab = await stage.open("quick");
    await hydrated(tab);
    await tab.goto(`${stage.url}/?parts=other`);
    await hydrated(tab);
    await tab.goBack();
    await hydrated(tab);
    expect(await shown(tab, "quick")).toMatch(/^quick: ready quick/);
    await tab.goForward();
    await hydrated(tab);
    expect(asked.filter((each) => each.startsWith("browser"))).toEqual([]);
    await tab.close();
  });

  test.each(["+", "~", "&"])("H6: several of one component are asked for at once (%s)", async (sign) => {
    const release = stage.holdBack("slow");
    const tab = await stage.open(`slow${sign}other`);
    await expect.poll(() => [...asked].sort()).toEqual(["server other", "server slow"]); // two requests may overtake each other
    release();
    await tab.locator(`p[id="slow${sign}other"]:visible`, { hasText: "slow 1 and other 1" }).waitFor();
    await hydrated(tab);
    expect(asked).toHaveLength(2);
    expect(await recovered(tab)).toEqual([]);
    await tab.close();
  });

  test("a slow part streams in after the shell, which is usable before, and is hydrated without asking", async () => {
    const release = stage.holdBack("slow");
    const tab = await stage.open("quick,slow");
    await pressed(tab);
    expect(await tab.locator('p[id="slow"]:visible').count()).toBe(0);
    expect(await tab.locator('p[id="wait-slow"]').count()).toBe(1);
    release();
    await tab.locator('p[id="slow"]:visible').waitFor();
    await settled(tab);
    await idle(tab);
    expect(asked.sort()).toEqual(["server quick", "server slow"]);
    expect(await shown(tab, "slow")).toBe("slow: ready slow 1");
    expect(await recovered(tab)).toEqual([]);
    await tab.close();
  });

  test("H4: an entry that failed, is late or is noStore is left to the browser, which asks once for each", async () => {
    stage.visit = { ...stage.visit, options: { timeout: 3000 } }; // time enough for all that answers
    const release = stage.holdBack("slow");
    const tab = await stage.open("failing,no-store,slow");
    await expect.poll(() => [...stage.lastPage.left.keys()]).toContain('value "slow"');
    release();
    await tab.locator('p[id="slow"]:visible', { hasText: "ready" }).waitFor();
    await tab.locator('p[id="failing"]:visible', { hasText: "failed" }).waitFor();
    await tab.locator('p[id="no-store"]:visible', { hasText: "ready" }).waitFor();
    expect(asked.filter((each) => each.startsWith("browser")).sort()).toEqual([
      "browser failing",
      "browser no-store",
      "browser slow",
    ]);
    expect([...stage.lastPage.left].map(([key, { kind }]) => `${key} ${kind}`).sort()).toEqual([
      'value "failing" http',
      'value "no-store" load',
      'value "slow" timeout',
    ]);
    expect(await tab.content()).not.toContain("answered 500 (");
    await tab.close();
  });

  test("H8: a value that is late or failed is left to the browser, behind its fallback; the page's stream ends", async () => {
    stage.visit = { ...stage.visit, options: { timeout: 3000 } }; // time enough for all that answers
    const release = stage.holdBack("v-late");
    const tab = await stage.open("quick,v-late");
    await expect.poll(() => [...stage.lastPage.left.keys()]).toEqual(['value "v-late"']);
    expect(await stage.lastHtml).toContain("wait-v-late"); // all of it has come
    await expect
      .poll(() => [asked.slice(0, 2).sort(), asked.slice(2)])
      .toEqual([["server quick", "server v-late"], ["browser v-late"]]);
    release();
    await tab.locator('p[id="v-late"]:visible').waitFor();
    await tab.close();
  });

  test("H5: with a page that is no-store itself, noStore values go along; its freshness is that of its values", async () => {
    stage.visit = { ...stage.visit, options: { noStore: true } };
    const tab = await stage.open("quick,no-store");
    await hydrated(tab);
    expect(asked.sort()).toEqual(["server no-store", "server quick"]);
    expect(await shown(tab, "no-store")).toBe("no-store: ready no-store 1");
    expect(stage.lastPage.freshness()).toMatchObject({ maxAge: 0, noStore: true });
    await tab.close();
  });

  test("H3: a browser's clock that is three hours off, either way, asks for nothing", async () => {
    for (const off of [-3, 3]) {
      asked.length = 0;
      const tab = await stage.open("quick,no-cache", off);
      await hydrated(tab);
      expect(asked.sort()).toEqual(["server no-cache", "server quick"]);
      expect(await recovered(tab)).toEqual([]);
      await tab.close();
    }
  });

  test("H8: the client goes away in mid-stream: nothing is left under way on the server", async () => {
    stage.holdBack("hanging");
    const tab = await stage.open("quick,hanging");
    await tab.getByRole("button").waitFor();
    await tab.close();
    await expect.poll(() => ended).toContain("hanging aborted");
    expect([...stage.lastPage.left.keys()]).toEqual(['value "hanging"']);
  });
});
