import { createCache, entriesOf, source } from "cista";
import { CistaPlugin, useReading } from "cista/vue";
import { afterEach, expect, test } from "vitest";
import { createApp, defineComponent, h, KeepAlive, nextTick, ref } from "vue";

// Vue alone: a component that KeepAlive puts aside.

const ends: (() => void)[] = [];
afterEach(() => {
  for (const end of ends.splice(0)) end();
});

test("R3: a component that KeepAlive puts aside leaves its entry, and comes back with it", async () => {
  const cache = createCache();
  const hut = source({ name: "hut", maxAge: "1h", load: async (id: number) => `hut ${id}` });
  const id = ref(1);
  const Hut = defineComponent(() => {
    const reading = useReading(hut, () => id.value);
    return () => h("p", reading.value ?? reading.state);
  });
  const isShown = ref(true);
  const element = document.createElement("main");
  const app = createApp(() => h(KeepAlive, null, () => (isShown.value ? h(Hut) : h("i", "aside"))));
  app.use(CistaPlugin, cache).mount(element);
  ends.push(
    () => app.unmount(),
    () => cache.dispose(),
  );
  const watched = () => [...entriesOf(cache)].filter(({ watchers }) => watchers > 0).map(({ key }) => key);
  await expect.poll(() => element.textContent).toBe("hut 1");

  isShown.value = false;
  await nextTick();
  expect([element.textContent, watched()]).toEqual(["aside", []]);
  id.value = 2; // nobody looks at it
  await nextTick();
  expect(watched()).toEqual([]);

  isShown.value = true;
  await expect.poll(() => element.textContent).toBe("hut 2");
  expect(watched()).toEqual(["hut 2"]);
});
