import { ageInWords, nightsInWords, someNight, told } from "@cista/example-board-shared";
import type { Cache } from "cista";
import { CistaProvider, Outcome, useReading, useValue, useWrite } from "cista/react";
import { Suspense } from "react";
import { basket, book, bunks, hut, huts } from "./data.js";

export interface PageProps {
  readonly cache: Cache;
  readonly walker: string;
  /** Chosen by the address: /hut/h-07. */
  readonly chosen: string | undefined;
  readonly styles: readonly string[];
}

/** The whole page, as the server sends it and the browser hydrates it. */
export function Page({ cache, walker, chosen, styles }: PageProps) {
  return (
    <html lang="en" data-walker={walker} data-chosen={chosen} data-styles={styles.join(" ")}>
      <head>
        <meta charSet="utf-8" />
        <meta name="viewport" content="width=device-width, initial-scale=1" />
        <title>Greyfell huts</title>
        <link rel="icon" href="data:," />
        {styles.map((href) => (
          <link key={href} rel="stylesheet" href={href} />
        ))}
      </head>
      <body>
        <div className="board">
          <CistaProvider cache={cache}>
            <Board walker={walker} chosen={chosen} />
          </CistaProvider>
        </div>
      </body>
    </html>
  );
}

function Board({ walker, chosen }: Pick<PageProps, "walker" | "chosen">) {
  const nights = useReading(basket);
  return (
    <>
      <header>
        <h1>Greyfell huts</h1>
        <p>
          {walker}: {nightsInWords(nights.value)}
          {nights.pendingWrites ? " (not confirmed)" : ""}
        </p>
        <form method="post" action="/sign-in">
          <button type="submit" name="walker" value={walker === "Wren" ? "Ash" : "Wren"}>
            Sign in as {walker === "Wren" ? "Ash" : "Wren"}
          </button>
        </form>
      </header>
      <main>
        <section className="card" aria-label="Huts">
          <Suspense fallback={<p role="status">Loading…</p>}>
            <HutList chosen={chosen} />
          </Suspense>
        </section>
        <section className="card" aria-label="Hut">
          {chosen ? (
            <Suspense fallback={<p role="status">Loading…</p>}>
              <HutPanel id={chosen} />
            </Suspense>
          ) : (
            <p>Choose a hut.</p>
          )}
        </section>
      </main>
    </>
  );
}

function HutList({ chosen }: { chosen: string | undefined }) {
  const all = useValue(huts, { q: "" });
  return (
    <ul>
      {all.map(({ id, name }) => (
        <li key={id}>
          <a href={`/hut/${id}`} aria-current={id === chosen}>
            {name}
          </a>
        </li>
      ))}
    </ul>
  );
}

function HutPanel({ id }: { id: string }) {
  const reading = useReading(hut, { id });
  return (
    <Outcome of={reading} missing={<p>There is no hut {id}.</p>}>
      {({ name, region, altitude, warden, water }) => (
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
          <Suspense fallback={<p role="status">Counting the bunks…</p>}>
            <BunksPanel id={id} />
          </Suspense>
        </>
      )}
    </Outcome>
  );
}

/** Slow on purpose: it streams in after the rest, which can be used meanwhile. */
function BunksPanel({ id }: { id: string }) {
  const { free, of } = useValue(bunks, { id, night: someNight });
  const [runBook, { underWay, failure, reset }] = useWrite(book);
  return (
    <section className="bunks" aria-label="Bunks">
      <p>
        {free} of {of} bunks free
      </p>
      <button type="button" disabled={underWay > 0} onClick={() => runBook({ hut: id, night: someNight })}>
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
