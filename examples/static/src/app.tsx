import { ageInWords, someNight } from "@cista/example-board-shared";
import type { Cache } from "cista";
import { CistaProvider, Outcome, useReading } from "cista/react";
import { bunks, hut, huts } from "./data.js";

export const chosen = { id: "h-07" };
export const region = { region: "Lower Fells" };
export const night = { ...chosen, night: someNight };

/** The sheet that hangs at the trail head: one hut, its bunks, and the huts around. */
export function Sheet({ cache }: { cache: Cache }) {
  return (
    <CistaProvider cache={cache}>
      <header>
        <h1>Sheet of the day</h1>
      </header>
      <main>
        <HutCard />
        <Around />
      </main>
    </CistaProvider>
  );
}

function HutCard() {
  const reading = useReading(hut, chosen);
  const free = useReading(bunks, night);
  return (
    <section className="card" aria-label="Hut">
      <Outcome of={reading}>
        {({ name, altitude, warden, water }) => (
          <>
            <h2>{name}</h2>
            <p className="age">{ageInWords(reading.fresh, reading.request)}</p>
            <p>
              {altitude} m, warden {warden}, {water} litres of water
            </p>
          </>
        )}
      </Outcome>
      <Outcome of={free}>
        {(counted) => (
          <p>
            {counted.free} of {counted.of} bunks free
          </p>
        )}
      </Outcome>
    </section>
  );
}

function Around() {
  const reading = useReading(huts, region);
  return (
    <section className="card" aria-label="Huts">
      <Outcome of={reading}>
        {(all) => (
          <ul>
            {all.map(({ id, name }) => (
              <li key={id}>{name}</li>
            ))}
          </ul>
        )}
      </Outcome>
    </section>
  );
}
