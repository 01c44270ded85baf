/** @jsxImportSource solid-js */
import type { Cache } from "cista";
import { CistaProvider, createReading, createValue } from "cista/solid";
import { createSignal, For, Suspense } from "solid-js";
import { generateHydrationScript, hydrate as hydrateTree, renderToStringAsync } from "solid-js/web";
import { value } from "../../page/data.js";
import { inWords } from "./words.js";

function Part(props: { name: string }) {
  const reading = createReading(value, () => props.name);
  return <p id={props.name}>{inWords(props.name, reading)}</p>;
}

function Value(props: { name: string }) {
  const text = createValue(value, () => props.name);
  return <p id={props.name}>{`${props.name}: ${text()?.text}`}</p>;
}

function App(props: { cache: Cache; names: readonly string[] }) {
  const [count, setCount] = createSignal(0);
  return (
    <CistaProvider cache={props.cache}>
      <main>
        <button type="button" onClick={() => setCount(count() + 1)}>{`pressed ${count()}`}</button>
        <For each={props.names}>
          {(name) => <Suspense>{name.startsWith("v-") ? <Value name={name} /> : <Part name={name} />}</Suspense>}
        </For>
      </main>
    </CistaProvider>
  );
}

export async function html(cache: Cache, names: readonly string[]): Promise<string> {
  const body = await renderToStringAsync(() => <App cache={cache} names={names} />);
  return `${generateHydrationScript()}<div id="root">${body}</div>`;
}

export function hydrate(cache: Cache, names: readonly string[]): void {
  hydrateTree(() => <App cache={cache} names={names} />, document.getElementById("root") as HTMLElement);
}
