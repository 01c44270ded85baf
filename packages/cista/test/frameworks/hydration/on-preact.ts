import type { Cache } from "cista";
import { CistaProvider, useReading } from "cista/preact";
import type { ServerPage } from "cista/server";
import { h, hydrate as hydrateTree } from "preact";
import { useState } from "preact/hooks";
import { value } from "../../page/data.js";
import { inWords } from "./words.js";

function Part({ name }: { name: string }) {
  const reading = useReading(value, name);
  return h("p", { id: name }, inWords(name, reading));
}

function Counter() {
  const [count, setCount] = useState(0);
  return h("button", { onClick: () => setCount(count + 1) }, `pressed ${count}`);
}

const app = (cache: Cache, names: readonly string[]) =>
  h(CistaProvider, { cache }, h("main", null, h(Counter, null), ...names.map((name) => h(Part, { name }))));

/** Preact's renderer waits for nothing: what the page is made of is loaded before. */
export async function html(cache: Cache, names: readonly string[], page: ServerPage): Promise<string> {
  const { renderToString } = await import("preact-render-to-string");
  await Promise.all(names.map((name) => page.show(value, name)));
  return `<div id="root">${renderToString(app(cache, names))}</div>`;
}

export function hydrate(cache: Cache, names: readonly string[]): void {
  hydrateTree(app(cache, names), document.getElementById("root") as HTMLElement);
}
