import { createCache, entriesOf, source } from "cista";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { createStore } from "solid-js/store";
import { expect, test, vi } from "vitest";
import { reactive, readonly } from "vue";

// An object that a framework has wrapped in a deep proxy, as params: nothing complains, and nothing changes under the key.

interface Params {
  text: string;
  tags: string[];
}
const first = (): Params => ({ text: "a", tags: ["x"] });
const kinds: Record<string, () => [params: Params, change: (text: string) => void]> = {
  "vue reactive": () => {
    const state = reactive(first());
    return [state, (text) => (state.text = text)];
  },
  "vue readonly": () => {
    const state = reactive(first());
    return [readonly(state) as Params, (text) => (state.text = text)];
  },
  "svelte $state": () => {
    const state = $state(first());
    return [state, (text) => (state.text = text)];
  },
  "solid store": () => {
    const [state, set] = createStore(first());
    return [state, (text) => set("text", text)];
  },
};

test.each(Object.entries(kinds))(
  "%s: copied, not frozen, and its later changes are of another key",
  async (_, kind) => {
    const complaints = [vi.spyOn(console, "warn"), vi.spyOn(console, "error")];
    const cache = createCache({ clock: virtualClock(1000), environment: virtualEnvironment() });
    const asked: unknown[] = [];
    const load = async (params: Params) => {
      asked.push(params);
      return { beds: [1] };
    };
    const hut = source({ name: "hut", load });
    const [params, change] = kind();
    const { key } = cache.view(hut, params);
    await cache.read(hut, params);
    change("b");
    expect(params.text).toBe("b");
    expect([...entriesOf(cache)][0]).toMatchObject({ key, params: { text: "a", tags: ["x"] } });
    expect(cache.view(hut, params).key).toBe('hut {"tags":["x"],"text":"b"}');
    expect(asked).toEqual([{ text: "a", tags: ["x"] }]);
    for (const complaint of complaints) expect(complaint).not.toHaveBeenCalled();
    vi.restoreAllMocks();
    cache.dispose();
  },
);

test("what is held is frozen, so that a proxy over it refuses to write through into the cache", async () => {
  const cache = createCache({ clock: virtualClock(1000), environment: virtualEnvironment() });
  const hut = source({ name: "hut", load: async (_id: number) => ({ name: "Harebell" }) });
  await cache.read(hut, 1);
  const held = cache.peek(hut, 1).value as { name: string };
  const wrapped = reactive(held);
  expect(() => {
    wrapped.name = "changed through the proxy";
  }).toThrow(TypeError);
  expect(cache.peek(hut, 1).value).toEqual({ name: "Harebell" });
  cache.dispose();
});
