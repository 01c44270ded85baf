import { type Cache, createCache, source } from "cista";
import { CistaProvider, createReading } from "cista/solid";
import { contextOf } from "cista/svelte";
import { CistaPlugin, useReading as useVueReading } from "cista/vue";
import { createComponent, createEffect, createRoot as solidRoot } from "solid-js";
import { render as solidRender } from "solid-js/web";
import { mount, unmount } from "svelte";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { computed, createApp, h, isReactive, reactive, toRaw, toRefs, watch } from "vue";
import TakenApart from "./TakenApart.svelte";

// A live reading that is taken apart: it stays live in the framework's own way, and else a warning says so, at the line.

let cache: Cache;
let answer: (value: number) => void;
let warnings: string[];
let count = 0;
const heldSource = () =>
  source({
    name: `hut${++count}`,
    load: () =>
      new Promise<number>((resolve) => {
        answer = resolve;
      }),
  });

beforeEach(() => {
  cache = createCache();
  warnings = [];
  vi.spyOn(console, "warn").mockImplementation((text) => void warnings.push(String(text)));
});
afterEach(() => {
  vi.restoreAllMocks();
  cache.dispose();
});

/** Runs a Vue component's setup and says what its template shows. */
function vue<R>(setup: () => R, template: (given: R) => string = () => "") {
  const element = document.createElement("div");
  const app = createApp({
    setup() {
      const given = setup();
      return () => h("p", template(given));
    },
  });
  app.use(CistaPlugin, cache).mount(element);
  return { text: () => element.textContent, end: () => app.unmount() };
}

test("Vue: toRefs makes refs of it that follow; watch hears of it; toRaw is the reading of this moment", async () => {
  const hut = heldSource();
  const heard: string[] = [];
  const { text, end } = vue(
    () => {
      const reading = useVueReading(hut);
      watch(reading, ({ state }) => void heard.push(state));
      const { state, value } = toRefs(reading);
      return { state, value, reading, name: computed(() => `n${reading.value}`) };
    },
    ({ state, value, name, reading }) => `${state.value} ${value?.value} ${name.value} ${reading.state}`,
  );
  expect(text()).toBe("loading undefined nundefined loading");
  answer(7);
  await vi.waitFor(() => expect(text()).toBe("ready 7 n7 ready"));
  expect(heard).toEqual(["ready"]);
  expect(warnings).toEqual([]);
  end();
});

test("Vue: it is no proxy, may stand in a reactive object, and its copy is plain", async () => {
  const hut = heldSource();
  cache.put(hut, undefined, 5);
  let seen: unknown[] = [];
  const { end } = vue(() => {
    const reading = useVueReading(hut);
    const page = reactive({ reading });
    seen = [isReactive(reading), page.reading === reading, toRaw(reading) === cache.peek(hut)];
  });
  expect(seen).toEqual([true, true, true]);
  end();
});

test("Vue: a reading taken apart in setup is a warning with the member and the remedy; an event handler may look", () => {
  const hut = heldSource();
  let look = () => {};
  const { end } = vue(() => {
    const reading = useVueReading(hut);
    const { state } = reading;
    look = () => void reading.value;
    return state;
  });
  look();
  expect(warnings).toEqual([
    `Cista: "state" of a reading of "${hut.name}" was looked at in setup, where nothing is followed: it stays as it is now. Keep the reading whole, or write const { state } = toRefs(reading). For the value of this moment, cache.peek(${hut.name}, params).state.`,
  ]);
  end();
});

test("Solid: taken apart in a component it is a warning; props spread and effects stay live", async () => {
  const hut = heldSource();
  const shown: string[] = [];
  const element = document.createElement("div");
  const App = (apart: boolean) => () => {
    const reading = createReading(hut);
    createEffect(() => shown.push(`${reading.state} ${reading.value}`));
    const Child = (props: { state: string; value?: number | undefined }) => {
      createEffect(() => shown.push(`child ${props.state} ${props.value}`));
      return null;
    };
    if (apart) void { ...reading };
    return createComponent(Child, reading);
  };
  const draw = (apart: boolean) =>
    solidRender(
      () =>
        createComponent(CistaProvider, {
          cache,
          get children() {
            return createComponent(App(apart), {});
          },
        }),
      element,
    );
  const end = draw(false);
  answer(7);
  await vi.waitFor(() =>
    expect(shown).toEqual(["loading undefined", "child loading undefined", "ready 7", "child ready 7"]),
  );
  expect(warnings).toEqual([]);
  end();
  draw(true)();
  expect(warnings.join()).toContain(
    `"state" of a reading of "${hut.name}" was looked at in a component, where nothing`,
  );
  solidRoot((dispose) => dispose());
});

test.each([false, true])(
  "Svelte: $derived takes it apart and stays live; taken apart without it (%s) is a warning",
  async (apart) => {
    const hut = heldSource();
    const shown: string[] = [];
    const element = document.createElement("div");
    const props = { source: hut, apart, shown: (text: string) => shown.push(text) };
    const app = mount(TakenApart, { target: element, props, context: contextOf(cache) });
    await vi.waitFor(() => expect(shown).toEqual(["loading undefined"]));
    answer(7);
    await vi.waitFor(() => expect(shown).toEqual(["loading undefined", "ready 7"]));
    expect(element.textContent?.trim()).toBe(apart ? "ready 7 ready loading" : "ready 7 ready");
    expect(warnings.length).toBe(apart ? 1 : 0);
    if (apart)
      expect(warnings[0]).toContain(`"state" of a reading of "${hut.name}" was looked at in a component's script`);
    await unmount(app);
  },
);
