import { useReading, useWrite } from "cista/react";
import { useState } from "react";
import { Panel } from "./panel.js";
import { Refusals, useRefusals } from "./refusals.js";
import { basket, book, cancel, type Night } from "./sources.js";
import { nightInWords, nightsFrom } from "./time.js";

/** In the masthead: reads the same key as the panel, and needs only the number. */
export function BasketCount() {
  const reading = useReading(basket, undefined, { pick: (nights) => nights.length });
  const count = reading.state === "ready" ? String(reading.value) : "–";
  return (
    <p className="count">
      <b>{count}</b> {reading.value === 1 ? "night" : "nights"} in your basket
    </p>
  );
}

/** Nights one after another in one hut. */
interface Stay {
  readonly hut: string;
  readonly name: string;
  readonly nights: readonly Night[];
}

export function BasketPanel({ onChoose }: { onChoose(id: string): void }) {
  const reading = useReading(basket);
  const [runBook] = useWrite(book);
  const [runCancel] = useWrite(cancel);
  const refusals = useRefusals();
  const [removed, setRemoved] = useState<Stay>();

  const add = ({ hut, name }: Stay, night: string) => refusals.watch(runBook({ hut, name, night }));
  const take = (night: string) => refusals.watch(runCancel(night));
  const remove = (stay: Stay) => {
    setRemoved(stay);
    for (const { night } of stay.nights) take(night);
  };
  const undo = (stay: Stay) => {
    setRemoved(undefined);
    for (const { night } of stay.nights) add(stay, night);
  };
  return (
    <Panel title="Your basket" className="basket" of={reading} lines={3} missing="You have no basket yet.">
      {(nights) => (
        <>
          {nights.length === 0 && <p className="note">No nights booked yet.</p>}
          <ul className="nights">
            {staysIn(nights).map((stay) => (
              <StayRow key={`${stay.hut} ${stay.nights[0]?.night}`} stay={stay} {...{ onChoose, add, take, remove }} />
            ))}
          </ul>
          <p role="status" className="note">
            {reading.state === "ready" && reading.pendingWrites > 0 && (
              <span>
                {reading.pendingWrites} {reading.pendingWrites === 1 ? "change" : "changes"} not confirmed yet
              </span>
            )}
            {removed && (
              <span>
                {removed.name} is out of your basket.{" "}
                <button type="button" className="link" onClick={() => undo(removed)}>
                  Undo
                </button>
              </span>
            )}
          </p>
          <Refusals of={refusals} />
        </>
      )}
    </Panel>
  );
}

interface StayRowProps {
  stay: Stay;
  onChoose(id: string): void;
  add(stay: Stay, night: string): void;
  take(night: string): void;
  remove(stay: Stay): void;
}

function StayRow({ stay, onChoose, add, take, remove }: StayRowProps) {
  const { nights, name } = stay;
  const first = nights[0]?.night ?? "";
  const last = nights.at(-1)?.night ?? "";
  return (
    <li className={nights.some(({ pending }) => pending) ? "pending" : ""}>
      <time dateTime={first}>{nightInWords(first)}</time>
      <button type="button" className="link" onClick={() => onChoose(stay.hut)}>
        {name}
      </button>
      <span className="stay">
        <button type="button" className="quiet" aria-label={`One night less at ${name}`} onClick={() => take(last)}>
          −
        </button>
        <span>
          {nights.length} {nights.length === 1 ? "night" : "nights"}
        </span>
        <button
          type="button"
          className="quiet"
          aria-label={`One night more at ${name}`}
          onClick={() => add(stay, nightsFrom(last, 1))}
        >
          +
        </button>
        <button type="button" className="link" onClick={() => remove(stay)}>
          Remove<span className="unseen"> {name}</span>
        </button>
      </span>
    </li>
  );
}

function staysIn(nights: readonly Night[]): Stay[] {
  const stays: { hut: string; name: string; nights: Night[] }[] = [];
  for (const night of nights) {
    const stay = stays.at(-1);
    const last = stay?.nights.at(-1);
    if (stay && last && stay.hut === night.hut && nightsFrom(last.night, 1) === night.night) stay.nights.push(night);
    else stays.push({ hut: night.hut, name: night.name, nights: [night] });
  }
  return stays;
}
