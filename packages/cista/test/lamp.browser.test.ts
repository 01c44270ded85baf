import { createCache, entriesOf, Failure, source } from "cista";
import { lightLamps } from "cista/lamp";
import { afterEach, beforeEach, expect, test } from "vitest";
import { userEvent } from "vitest/browser";
import { heldSource } from "./stage.js";

let cache: ReturnType<typeof createCache>;
let end: () => void;
beforeEach(() => {
  cache = createCache();
  end = lightLamps(cache);
});
afterEach(() => {
  end();
  cache.dispose();
  for (const lamp of document.querySelectorAll("cista-lamp")) lamp.remove();
});

const lampAt = (entry?: string) => {
  const lamp = document.createElement("cista-lamp");
  if (entry !== undefined) lamp.setAttribute("entry", entry);
  document.body.append(lamp);
  const root = () => lamp.shadowRoot as ShadowRoot;
  const find = (selector: string) => root().querySelector<HTMLElement>(selector) as HTMLElement;
  return {
    lamp,
    find,
    focused: () => root().activeElement as HTMLElement,
    text: () => find(".lamp").textContent,
    press: (act: string) => find(`[data-act="${act}"]`).click(),
  };
};

test("it tells the state of its entry by shape and in words, and attaches to nothing", async () => {
  const { source: hut, loads } = heldSource("hut", { maxAge: "1h" });
  const { text, find, lamp } = lampAt("hut 1");
  expect(text()).toBe("nothing held");
  const leave = cache.view(hut, 1).subscribe(() => {});
  await expect.poll(text).toBe("asking");
  expect(find(".flame")).not.toBe(null);
  loads[0]?.answer({ name: "Harebell", note: "<b>&" });
  await expect.poll(text).toMatch(/^fresh, \d s old$/);
  expect(find(".flame")).toBe(null);
  expect([...entriesOf(cache)][0]?.watchers).toBe(1);
  find(".lamp").click();
  const card = find(".card").textContent;
  for (const told of [
    'holds{"name":"Harebell","note":"<b>&"}',
    "watchedby one component",
    "answer (attach) Cista; fwd=miss; stored",
  ])
    expect(card).toContain(told);
  cache.invalidate("all");
  loads[1]?.fail(new Failure("http", "answered 500"));
  await expect.poll(text).toMatch(/^stale, \d s old, last check failed$/); // whoever shows it keeps it
  lamp.setAttribute("entry", "hut 2");
  expect(text()).toBe("nothing held");
  leave();
});

test("by keyboard the card opens and closes, and the focus stays", async () => {
  const hut = source({ name: "hut", load: async (id: number) => id });
  await cache.read(hut, 1);
  const { find, focused } = lampAt("hut 1");
  find(".lamp").focus();
  find(".lamp").click();
  expect(find(".lamp").getAttribute("aria-expanded")).toBe("true");
  find('[data-act="ask"]').focus();
  cache.put(hut, 1, 2);
  await expect.poll(() => find("dd").textContent).toBe("2");
  expect(focused().dataset.act).toBe("ask");
  find('[data-act="ask"]').dispatchEvent(new KeyboardEvent("keydown", { key: "Escape", bubbles: true }));
  expect(find(".card")).toBe(null);
  expect(focused().className).toBe("lamp");
});

test("a press that begins before the card is drawn anew still counts when it ends", async () => {
  const hut = source({ name: "hut", load: async (id: number) => id });
  await cache.read(hut, 1);
  const { find } = lampAt("hut 1");
  find(".lamp").click();
  const box = find('[data-act="slow"]') as HTMLInputElement;
  box.focus();
  await userEvent.keyboard("{ >}");
  cache.put(hut, 1, 2);
  await expect.poll(() => find("dd").textContent).toBe("2");
  await userEvent.keyboard("{/ }");
  expect([box.checked, box.isConnected]).toEqual([true, true]);
});

test("rehearsed from the card: missing, offline; ended, all comes back by itself", async () => {
  const hut = source({ name: "hut", maxAge: "1h", load: async (id: number) => `hut ${id}` });
  const view = cache.view(hut, 1);
  view.subscribe(() => {});
  await cache.read(hut, 1);
  const { press, find, text } = lampAt("hut 1");
  press("toggle");
  press("missing");
  await expect.poll(text).toMatch(/^none, fresh, \d s old$/);
  expect([view.get().state, (find('[data-act="missing"]') as HTMLInputElement).checked]).toEqual(["missing", true]);
  press("missing");
  press("offline");
  press("forget");
  await expect.poll(text).toBe("offline");
  expect(view.get().request).toBe("offline");
  end();
  await expect.poll(() => view.get()).toMatchObject({ state: "ready", value: "hut 1", request: "none" });
});

test("page-wide: the entries that no other lamp shows", async () => {
  const hut = source({ name: "hut", load: async (id: number) => id });
  for (const id of [1, 2, 3]) await cache.read(hut, id);
  lampAt("hut 2");
  const { text, press, find } = lampAt();
  expect(text()).toBe("2 more entries");
  press("toggle");
  expect([...find(".card").querySelectorAll("li")].map((row) => row.textContent)).toEqual([
    expect.stringMatching(/^hut 1: fresh, \d s old$/),
    expect.stringMatching(/^hut 3: fresh, \d s old$/),
  ]);
  press("choose hut 3");
  expect(find("li:last-child h3").textContent).toBe("hut 3");
});

test("put out it goes dark, lit again it comes back", async () => {
  const hut = source({ name: "hut", load: async (id: number) => id });
  await cache.read(hut, 1);
  const { text, lamp } = lampAt("hut 1");
  await expect.poll(text).toMatch(/^fresh/);
  end();
  expect(lamp.shadowRoot?.childElementCount).toBe(0);
  end = lightLamps(cache);
  expect(text()).toMatch(/^fresh/);
  cache.invalidate("all");
  cache.dispose();
  await expect.poll(text).toBe("nothing held");
});
