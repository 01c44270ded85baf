import {
  ageInWords,
  basket,
  book,
  bunks,
  chosenHut,
  hut,
  huts,
  nightsInWords,
  regions,
  someNight,
  told,
} from "@cista/example-board-shared";
import type { Failure } from "cista";
import { useReading, useWrite } from "cista/react";
import { useEffect, useState } from "react";

export function App() {
  const [chosen, choose] = useState(chosenHut);
  useEffect(() => {
    const changed = () => choose(chosenHut());
    addEventListener("hashchange", changed);
    return () => removeEventListener("hashchange", changed);
  }, []);
  const nights = useReading(basket);
  return (
    <>
      <header>
        <h1>Greyfell huts</h1>
        <p>
          {nightsInWords(nights.value)}
          {nights.pendingWrites ? <span> (not confirmed)</span> : null}
        </p>
      </header>
      <main>
        <HutList chosen={chosen} />
        <section className="card" aria-label="Hut">
          {chosen ? <HutPanel key={chosen} id={chosen} /> : <p>Choose a hut.</p>}
        </section>
      </main>
    </>
  );
}

function HutList({ chosen }: { chosen: string | undefined }) {
  const [q, setQ] = useState("");
  const [region, setRegion] = useState("");
  const reading = useReading(huts, { region, q }, { carryOver: true });
  return (
    <section className="card" aria-label="Huts">
      <input
        value={q}
        onChange={({ currentTarget }) => setQ(currentTarget.value)}
        type="search"
        aria-label="Search huts"
        placeholder="Search"
      />
      <select value={region} onChange={({ currentTarget }) => setRegion(currentTarget.value)} aria-label="Region">
        <option value="">All regions</option>
        {regions.map((each) => (
          <option key={each}>{each}</option>
        ))}
      </select>
      {reading.state === "failed" ? (
        <Trouble failure={reading.failure} again={reading.revalidate} />
      ) : !reading.value ? (
        <p role="status">Loading…</p>
      ) : reading.value.length === 0 ? (
        <p>No hut is called that.</p>
      ) : (
        <ul aria-busy={reading.provisional === "carried"}>
          {reading.value.map(({ id, name }) => (
            <li key={id}>
              <a href={`#${id}`} aria-current={id === chosen}>
                {name}
              </a>
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}

function Trouble({ failure, again }: { failure: Failure; again: () => void }) {
  return (
    <p role="alert">
      {failure.message}{" "}
      <button type="button" onClick={again}>
        Again
      </button>
    </p>
  );
}

function HutPanel({ id }: { id: string }) {
  const reading = useReading(hut, { id });
  if (reading.state === "missing") return <p>There is no hut {id}.</p>;
  if (reading.state === "failed") return <Trouble failure={reading.failure} again={reading.revalidate} />;
  if (reading.state !== "ready") return <p role="status">Loading…</p>;
  const { name, region, altitude, warden, water } = reading.value;
  return (
    <>
      <h2>{name}</h2>
      <p className="age">{ageInWords(reading.fresh, reading.request)}</p>
      <dl>
        <dt>Region</dt>
        <dd>{region}</dd>
        <dt>Altitude</dt>
        <dd>{altitude} m</dd>
        <dt>Warden</dt>
        <dd>{warden}</dd>
        <dt>Water</dt>
        <dd>{water} litres</dd>
      </dl>
      <button type="button" onClick={reading.revalidate}>
        Ask now
      </button>
      <BunksPanel id={id} />
    </>
  );
}

function BunksPanel({ id }: { id: string }) {
  const [night, setNight] = useState(someNight);
  const { value } = useReading(bunks, { id, night }, { carryOver: true });
  const [runBook, { underWay, failure, reset }] = useWrite(book);
  return (
    <section className="bunks" aria-label="Bunks">
      <input
        value={night}
        onChange={({ currentTarget }) => setNight(currentTarget.value)}
        type="date"
        aria-label="Night"
      />
      <p>{value ? `${value.free} of ${value.of} bunks free` : "…"}</p>
      <button type="button" disabled={underWay > 0} onClick={() => runBook({ hut: id, night })}>
        Book a bunk
      </button>
      {failure && (
        <p role="alert">
          {told(failure)}{" "}
          <button type="button" onClick={reset}>
            Put away
          </button>
        </p>
      )}
    </section>
  );
}
