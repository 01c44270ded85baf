/** @jsxImportSource solid-js */
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
import { createReading, createWrite } from "cista/solid";
import { createSignal, For, type JSX, Match, onCleanup, Show, Switch } from "solid-js";

export function App(): JSX.Element {
  const [chosen, choose] = createSignal(chosenHut());
  const changed = () => choose(chosenHut());
  addEventListener("hashchange", changed);
  onCleanup(() => removeEventListener("hashchange", changed));
  const nights = createReading(basket);
  return (
    <>
      <header>
        <h1>Greyfell huts</h1>
        <p>
          {nightsInWords(nights.value)}
          <Show when={nights.pendingWrites}>
            <span> (not confirmed)</span>
          </Show>
        </p>
      </header>
      <main>
        <HutList chosen={chosen()} />
        <section class="card" aria-label="Hut">
          <Show when={chosen()} keyed fallback={<p>Choose a hut.</p>}>
            {(id) => <HutPanel id={id} />}
          </Show>
        </section>
      </main>
    </>
  );
}

function HutList(props: { chosen: string | undefined }): JSX.Element {
  const [q, setQ] = createSignal("");
  const [region, setRegion] = createSignal("");
  const reading = createReading(huts, () => ({ region: region(), q: q() }), { carryOver: true });
  return (
    <section class="card" aria-label="Huts">
      <input
        value={q()}
        onInput={({ currentTarget }) => setQ(currentTarget.value)}
        type="search"
        aria-label="Search huts"
        placeholder="Search"
      />
      <select value={region()} onChange={({ currentTarget }) => setRegion(currentTarget.value)} aria-label="Region">
        <option value="">All regions</option>
        <For each={regions}>{(each) => <option>{each}</option>}</For>
      </select>
      <Switch fallback={<p role="status">Loading…</p>}>
        <Match when={reading.state === "failed" && reading.failure}>
          {(failure) => (
            <p role="alert">
              {failure().message}{" "}
              <button type="button" onClick={() => reading.revalidate()}>
                Again
              </button>
            </p>
          )}
        </Match>
        <Match when={reading.value?.length === 0}>
          <p>No hut is called that.</p>
        </Match>
        <Match when={reading.value}>
          {(all) => (
            <ul aria-busy={reading.provisional === "carried"}>
              <For each={all()}>
                {({ id, name }) => (
                  <li>
                    <a href={`#${id}`} aria-current={id === props.chosen}>
                      {name}
                    </a>
                  </li>
                )}
              </For>
            </ul>
          )}
        </Match>
      </Switch>
    </section>
  );
}

function HutPanel(props: { id: string }): JSX.Element {
  const reading = createReading(hut, () => ({ id: props.id }));
  return (
    <Switch fallback={<p role="status">Loading…</p>}>
      <Match when={reading.state === "ready" && reading.value}>
        {(value) => (
          <>
            <h2>{value().name}</h2>
            <p class="age">{ageInWords(reading.fresh, reading.request)}</p>
            <dl>
              <dt>Region</dt>
              <dd>{value().region}</dd>
              <dt>Altitude</dt>
              <dd>{value().altitude} m</dd>
              <dt>Warden</dt>
              <dd>{value().warden}</dd>
              <dt>Water</dt>
              <dd>{value().water} litres</dd>
            </dl>
            <button type="button" onClick={() => reading.revalidate()}>
              Ask now
            </button>
            <BunksPanel id={props.id} />
          </>
        )}
      </Match>
      <Match when={reading.state === "missing"}>
        <p>There is no hut {props.id}.</p>
      </Match>
      <Match when={reading.state === "failed" && reading.failure}>
        {(failure) => (
          <p role="alert">
            {failure().message}{" "}
            <button type="button" onClick={() => reading.revalidate()}>
              Again
            </button>
          </p>
        )}
      </Match>
    </Switch>
  );
}

function BunksPanel(props: { id: string }): JSX.Element {
  const [night, setNight] = createSignal(someNight);
  const reading = createReading(bunks, () => ({ id: props.id, night: night() }), { carryOver: true });
  const [runBook, booking] = createWrite(book);
  return (
    <section class="bunks" aria-label="Bunks">
      <input
        value={night()}
        onInput={({ currentTarget }) => setNight(currentTarget.value)}
        type="date"
        aria-label="Night"
      />
      <p>{reading.value ? `${reading.value.free} of ${reading.value.of} bunks free` : "…"}</p>
      <button
        type="button"
        disabled={booking().underWay > 0}
        onClick={() => runBook({ hut: props.id, night: night() })}
      >
        Book a bunk
      </button>
      <Show when={booking().failure}>
        {(failure) => (
          <p role="alert">
            {told(failure())}{" "}
            <button type="button" onClick={booking().reset}>
              Put away
            </button>
          </p>
        )}
      </Show>
    </section>
  );
}
