import type { Cache } from "cista";
import { CistaProvider, useReading, useReadings, useValue, useValues } from "cista/react";
import { createElement as h, type ReactNode, Suspense, useState } from "react";
import { value } from "./data.js";

// The page that page.e2e.test.ts renders on a server and hydrates in a browser.

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

/** Several, by one hook. */
function Several({ names }: { names: readonly string[] }) {
  const readings = useReadings(value, names);
  return h("p", { id: names.join("~") }, readings.map(({ value: shown }) => shown?.text).join(" and "));
}

function SeveralValues({ names }: { names: readonly string[] }) {
  const values = useValues(value, names);
  return h("p", { id: names.join("&") }, values.map(({ text }) => text).join(" and "));
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
    if (name.includes("~")) return wait(name, h(Several, { names: name.split("~") }));
    if (name.includes("&")) return wait(name, h(SeveralValues, { names: name.split("&") }));
    if (name.includes("+")) return wait(name, h(Two, { names: name.split("+") }));
    return wait(name, name.startsWith("v-") ? h(Value, { name }) : h(Part, { name }));
  });
  return h(CistaProvider, { cache }, h("main", null, h(Counter), parts));
}
