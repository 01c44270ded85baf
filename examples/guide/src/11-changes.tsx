import { createCache } from "cista";
import { origin, writeTo } from "cista/http";
import { useReading, useWrite } from "cista/react";
import type { Night } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";
import { show } from "./page.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const basket = greyfell.source<void, Night[]>({
  name: "basket",
  url: "/api/basket",
  unwrap: (body) => body.nights,
});
const book = writeTo<Night, Night>(greyfell, {
  name: "book",
  method: "POST",
  url: "/api/basket",
  optimistic: (booking, edit) =>
    edit
      .at(basket)
      .patch((nights) => (nights.some(({ night }) => night === booking.night) ? nights : [...nights, booking])),
});

function Basket() {
  const { value, pendingWrites } = useReading(basket);
  return (
    <p>
      {value ? `${value.map(({ hut }) => hut).join(", ") || "empty"}${pendingWrites ? " (not confirmed)" : ""}` : "…"}
    </p>
  );
}
function Book({ hut, night }: Night) {
  const [run, { phase, failure }] = useWrite(book);
  return (
    <p>
      <button type="button" onClick={() => run({ hut, night })}>
        Book {hut}
      </button>{" "}
      {phase} {failure?.problem?.detail}
    </p>
  );
}

// #region harness
const page = show(
  createCache(),
  <>
    <Basket />
    <Book hut="h-07" night="2026-11-28" />
    <Book hut="h-20" night="2026-11-29" />
  </>,
);
console.log(await page.look("empty"));
for (const [name, end] of [
  ["Book h-07", "done"],
  ["Book h-20", "failed"],
] as const) {
  const answer = network.hold();
  await page.press(name);
  console.log(await page.look("not confirmed"));
  answer();
  console.log(await page.look(end));
}
page.end();
// #endregion
