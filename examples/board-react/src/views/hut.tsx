import type { ReactNode } from "react";
import { type Hut, lastPart } from "../world.js";

export function Unchosen() {
  return (
    <section className="panel hut unchosen" aria-label="Hut">
      <p className="note">Choose a hut from the list to see its bunks, its water and its warden.</p>
    </section>
  );
}

export function NoHut({ id }: { id: string }) {
  return (
    <>
      There is no hut <b>{id}</b> in the network. It may have been taken down, or the address was mistyped.
    </>
  );
}

interface HutFactsProps {
  hut: Hut;
  /** Of a route, by its id. */
  nameOf(id: string): ReactNode;
  onRoute(id: string): void;
}

const months = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"];

export function HutFacts({ hut, nameOf, onRoute }: HutFactsProps) {
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
              <button key={link} type="button" className="link" onClick={() => onRoute(lastPart(link))}>
                {nameOf(lastPart(link))}
              </button>
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

export function PortraitText({ text }: { text: string }) {
  return text.split("\n\n").map((paragraph) => <p key={paragraph}>{paragraph}</p>);
}

interface FreeBunksProps {
  free: number;
  of: number;
  booked: boolean;
  sending: boolean;
  onBook(): void;
}

export function FreeBunks({ free, of, booked, sending, onBook }: FreeBunksProps) {
  return (
    <>
      <p className="free">
        <strong>{free}</strong> of {of} free tonight
        <meter min={0} max={of} value={free} aria-hidden="true" />
      </p>
      <p className="booking">
        <button type="button" className="quiet" disabled={booked || sending} onClick={onBook}>
          Book a bunk
        </button>{" "}
        <span className="note" role="status">
          {booked && "In your basket for tonight."}
        </span>
      </p>
    </>
  );
}
