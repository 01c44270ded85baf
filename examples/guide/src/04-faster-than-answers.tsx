import { createCache, source } from "cista";
import { useReading } from "cista/react";
import { virtualClock } from "cista/rehearsal";
import { useState } from "react";
import { Greyfell } from "./greyfell.js";
import { show } from "./page.js";

const clock = virtualClock();
// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
let given = 0;
const search = source({
  name: "search",
  // The fewer letters, the longer it takes: answers would come in the wrong order.
  load: async (q: string, { signal }) => {
    signal.addEventListener("abort", () => given++);
    await new Promise((resolve) => clock.setTimer(() => resolve(undefined), 900 - 200 * q.length));
    return Object.values(network.huts).filter(({ name }) => name.toLowerCase().includes(q));
  },
});

let type: (q: string) => void = () => {};
function Search() {
  const [q, setQ] = useState("h");
  type = setQ;
  const { value, provisional } = useReading(search, q, { carryOver: true });
  return (
    <p>{`${q}: ${value ? value.map(({ name }) => name) : "…"}${provisional ? " (of what was typed before)" : ""}`}</p>
  );
}

// #region harness
const page = show(createCache({ clock }), <Search />);
await page.look();
await clock.advance("1s");
console.log(await page.look());
for (const q of ["ha", "har", "hare"]) {
  type(q);
  await page.look();
  await clock.advance("50ms");
  console.log(await page.look());
}
await clock.advance("1s");
console.log(await page.look());
console.log(`${given} requests were aborted`);
page.end();
// #endregion
