import { Outcome, useReading, useWrite } from "cista/react";
import { useState } from "react";
import { LogbookPanel } from "./logbook.js";
import { Panel } from "./panel.js";
import { Refusals, useRefusals } from "./refusals.js";
import { basket, book, bunks, type Hut, hut, lastPart, portrait, route } from "./sources.js";
import { nightInWords, tonight } from "./time.js";

/** The chosen hut, and its bunks tonight. */
export function HutPanel({ id, onRoute }: { id: string | undefined; onRoute(id: string): void }) {
  const reading = useReading(hut, id === undefined ? undefined : { id });
  if (id === undefined) {
    return (
      <section className="panel hut unchosen" aria-label="Hut">
        <p className="note">Choose a hut from the list to see its bunks, its water and its warden.</p>
      </section>
    );
  }
  return (
    <div className="column">
      <Panel
        title={reading.value?.name ?? "Hut"}
        className="hut"
        of={reading}
        lines={6}
        missing={
          <>
            There is no hut <b>{id}</b> in the network. It may have been taken down, or the address was mistyped.
          </>
        }
      >
        {(found) => (
          <>
            <HutFacts hut={found} onRoute={onRoute} />
            <Portrait id={id} key={id} />
          </>
        )}
      </Panel>
      {reading.state !== "missing" && (
        <>
          <BunksPanel id={id} name={reading.value?.name ?? id} />
          <LogbookPanel id={id} key={id} />
        </>
      )}
    </div>
  );
}

const months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

function HutFacts({ hut, onRoute }: { hut: Hut; onRoute(id: string): void }) {
  return (
    <>
      <dl className="facts">
        <div>
          <dt>Region</dt>
          <dd>{hut.region}</dd>
        </div>
        <div>
          <dt>Altitude</dt>
          <dd>{hut.altitude} m</dd>
        </div>
        <div>
          <dt>Warden</dt>
          <dd>{hut.warden}</dd>
        </div>
        <div>
          <dt>Water</dt>
          <dd>{hut.water} litres in the tank</dd>
        </div>
        <div>
          <dt>Routes</dt>
          <dd>
            {hut.routes.length === 0 && "none passes here"}
            {hut.routes.map((link) => (
              <RouteLink key={link} id={lastPart(link)} onRoute={onRoute} />
            ))}
          </dd>
        </div>
      </dl>
      <ol className="months" aria-label="Open in">
        {months.map((month, index) => {
          const open = hut.openMonths.includes(index + 1);
          return (
            <li key={month} className={open ? "open" : "shut"}>
              {month}
              <span className="unseen">{open ? ": open" : ": closed"}</span>
            </li>
          );
        })}
      </ol>
    </>
  );
}

function RouteLink({ id, onRoute }: { id: string; onRoute(id: string): void }) {
  const { value } = useReading(route, { id });
  return (
    <button type="button" className="link" onClick={() => onRoute(id)}>
      {value?.name ?? id}
    </button>
  );
}

/** Loaded when it is opened; it never changes, so never again. */
function Portrait({ id }: { id: string }) {
  const [open, setOpen] = useState(false);
  const reading = useReading(portrait, { id }, { when: open });
  return (
    <details className="portrait" onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary>About this hut</summary>
      <Outcome of={reading}>
        {(text) => text.split("\n\n").map((paragraph) => <p key={paragraph}>{paragraph}</p>)}
      </Outcome>
    </details>
  );
}

function BunksPanel({ id, name }: { id: string; name: string }) {
  const night = tonight();
  const [runBook, booking] = useWrite(book);
  const refusals = useRefusals();
  const booked = useReading(basket, undefined, { pick: (nights) => nights.find((each) => each.night === night)?.hut });
  const reading = useReading(bunks, { id, night });
  return (
    <Panel
      title={`Bunks, ${nightInWords(night)}`}
      className="bunks"
      of={reading}
      lines={1}
      missing="This hut has no bunks to let."
    >
      {({ free, of }) => (
        <>
          <p className="free">
            <strong>{free}</strong> of {of} free tonight
            <meter min={0} max={of} value={free} aria-hidden="true" />
          </p>
          <p className="booking">
            <button
              type="button"
              className="quiet"
              disabled={booked.value === id || booking.phase === "sending"}
              onClick={() => refusals.watch(runBook({ hut: id, night, name, free }))}
            >
              Book a bunk
            </button>{" "}
            <span className="note" role="status">
              {booked.value === id && "In your basket for tonight."}
            </span>
          </p>
          <Refusals of={refusals} />
        </>
      )}
    </Panel>
  );
}
