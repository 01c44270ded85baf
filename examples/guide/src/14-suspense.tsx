import { createCache } from "cista";
import { origin, path } from "cista/http";
import { Boundary, useValues } from "cista/react";
import type { Hut } from "./greyfell.js";
import { Greyfell } from "./greyfell.js";
import { show } from "./page.js";

// #region harness
const network = new Greyfell();
globalThis.fetch = network.fetch;
// #endregion
const greyfell = origin({ base: "https://huts.example" });
const hut = greyfell.source<string, Hut>({ name: "hut", url: (id) => path`/api/huts/${id}` });

function Two({ ids }: { ids: string[] }) {
  const [first, second] = useValues(hut, ids); // asked for at once; one useValue after the other would ask one after the other
  return <p>{`${first?.name} and ${second?.name}`}</p>;
}

// #region harness
const answer = network.hold();
const page = show(
  createCache(),
  <Boundary
    loading={<p>asking …</p>}
    missing={<p>there is no such hut</p>}
    failed={({ key, message }, again) => (
      <p>
        {key}: {message}{" "}
        <button type="button" onClick={again}>
          Again
        </button>
      </p>
    )}
  >
    <Two ids={["h-07", "h-12"]} />
  </Boundary>,
);
console.log(await page.look());
console.log(network.requests); // both, before either has answered
answer();
console.log(await page.look("Harebell"));
page.end();
// #endregion
