import { useReading } from "cista/react";
import { Panel } from "./panel.js";
import { basket } from "./sources.js";
import { nightInWords } from "./time.js";

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

export function BasketPanel({ onChoose }: { onChoose(id: string): void }) {
  const reading = useReading(basket);
  return (
    <Panel title="Your basket" className="basket" of={reading} lines={3} missing="You have no basket yet.">
      {(nights) =>
        nights.length === 0 ? (
          <p className="note">No nights booked yet.</p>
        ) : (
          <ul className="nights">
            {nights.map((entry) => (
              <li key={`${entry.night} ${entry.hut}`}>
                <time dateTime={entry.night}>{nightInWords(entry.night)}</time>
                <button type="button" className="link" onClick={() => onChoose(entry.hut)}>
                  {entry.name}
                </button>
              </li>
            ))}
          </ul>
        )
      }
    </Panel>
  );
}
