import type { Cache } from "cista";
import { origin } from "cista/http";
import { CistaProvider, useReading, useValue } from "cista/react";
import { createElement as h, type ReactNode, Suspense, useState } from "react";

// The page that page.e2e.test.ts renders on a server and hydrates in a browser. `address` is where its data comes from.

let address = "";
export const dataFrom = (url: string): void => {
  address = url;
};
const api = origin();

/** A kind of answer, by its name; the server knows what to send with it. */
export const value = api.source<string, { text: string }>({ name: "value", url: (name) => `${address}/api/${name}` });

function Part({ name }: { name: string }) {
  const reading = useReading(value, name);
  return h("p", { id: name }, `${name}: ${reading.state} ${reading.value?.text ?? ""}`);
}

/** Two readings, looked at one after the other. */
function Two({ names: [one = "", other = ""] }: { names: readonly string[] }) {
  const first = useReading(value, one);
  const second = useReading(value, other);
  return h("p", { id: `${one}+${other}` }, `${first.value?.text} and ${second.value?.text}`);
}

function Value({ name }: { name: string }) {
  const { text } = useValue(value, name);
  return h("p", { id: name }, `${name}: ${text}`);
}

/** Usable before what is slow has come. */
function Counter() {
  const [count, setCount] = useState(0);
  return h("button", { type: "button", onClick: () => setCount(count + 1) }, `pressed ${count}`);
}

const wait = (id: string, child: ReactNode) =>
  h(Suspense, { key: id, fallback: h("p", { id: `wait-${id}` }, "…") }, child);

export function App({ cache, names }: { cache: Cache; names: readonly string[] }): ReactNode {
  const parts = names.map((name) => {
    if (name.includes("+")) return wait(name, h(Two, { names: name.split("+") }));
    return wait(name, name.startsWith("v-") ? h(Value, { name }) : h(Part, { name }));
  });
  return h(CistaProvider, { cache }, h("main", null, h(Counter), parts));
}
