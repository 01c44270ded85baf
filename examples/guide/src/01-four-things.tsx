import { createCache } from "cista";
import { origin, path } from "cista/http";
import { Outcome, useReading } from "cista/react";
import { virtualClock } from "cista/rehearsal";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";
import { show } from "./page.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const hut = greyfell.source<{ id: string }, Hut>({ name: "hut", url: ({ id }) => path`/api/huts/${id}` });

function Water({ id }: { id: string }) {
  const reading = useReading(hut, { id });
  return (
    <Outcome
      of={reading}
      loading={<p>asking …</p>}
      missing={<p>there is no hut {id}</p>}
      failed={({ problem, message }, again) => (
        <p>
          {problem?.detail ?? message}{" "}
          <button type="button" onClick={again}>
            Again
          </button>
        </p>
      )}
    >
      {({ name, water }) => (
        <p>
          {name}: {water} litres
        </p>
      )}
    </Outcome>
  );
}

// #region harness
const answer = network.hold();
const clock = virtualClock(); // so that the tries after a failure take no time here
const page = show(
  createCache({ clock }),
  <>
    <Water id="h-07" />
    <Water id="h-99" />
  </>,
);
console.log(await page.look());
answer();
console.log(await page.look("no hut h-99"));

network.failing = 503;
const other = show(createCache({ clock }), <Water id="h-07" />);
for (let minute = 0; minute < 4; minute++) {
  await other.look();
  await clock.advance("1m"); // tried three times more, further and further apart
}
console.log(await other.look("iced over"));
network.failing = undefined;
await other.press("Again");
console.log(await other.look("90 litres"));

page.end();
other.end();
// #endregion
