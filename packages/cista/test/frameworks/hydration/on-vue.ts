import type { Cache } from "cista";
import { CistaPlugin, useReading, useValue } from "cista/vue";
import { createSSRApp, defineComponent, h, ref, Suspense } from "vue";
import { value } from "../../page/data.js";
import { inWords } from "./words.js";

const Part = defineComponent(
  (props: { name: string }) => {
    const reading = useReading(value, () => props.name);
    return () => h("p", { id: props.name }, inWords(props.name, reading));
  },
  { props: ["name"] },
);

const Value = defineComponent({
  props: { name: { type: String, required: true } },
  async setup(props) {
    // biome-ignore lint/correctness/useHookAtTopLevel: Vue's composables are called in setup
    const text = await useValue(value, () => props.name);
    return () => h("p", { id: props.name }, `${props.name}: ${text.value.text}`);
  },
});

const Counter = defineComponent(() => {
  const count = ref(0);
  return () => h("button", { onClick: () => count.value++ }, `pressed ${count.value}`);
});

function app(cache: Cache, names: readonly string[]) {
  const parts = () => h("div", [h(Counter), ...names.map((name) => h(name.startsWith("v-") ? Value : Part, { name }))]);
  return createSSRApp({ render: () => h(Suspense, null, { default: parts }) }).use(CistaPlugin, cache);
}

export async function html(cache: Cache, names: readonly string[]): Promise<string> {
  const { renderToString } = await import("vue/server-renderer");
  return `<div id="root">${await renderToString(app(cache, names))}</div>`;
}

export function hydrate(cache: Cache, names: readonly string[]): void {
  app(cache, names).mount("#root");
}
