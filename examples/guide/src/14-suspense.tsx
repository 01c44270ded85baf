import { createCache } from "cista";
import { origin } from "cista/http";
import { Boundary, useCache, useValue } from "cista/react";
import { Greyfell, type Hut } from "./greyfell.js";
import { show } from "./page.js";

const network = new Greyfell();
const greyfell = origin({ base: "https://huts.example", fetch: network.fetch });
const hut = greyfell.source<string, Hut>({ name: "hut", url: (id) => `/api/huts/${id}` });

function Two({ ids: [one = "", other = ""] }: { ids: string[] }) {
  // The first that is not there yet ends the render: without a word before, the second would be asked for only after it.
  const cache = useCache();
  cache.prefetch(hut, other);
  const [first, second] = [useValue(hut, one), useValue(hut, other)];
  return <p>{`${first.name} and ${second.name}`}</p>;
}

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
