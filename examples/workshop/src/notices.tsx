import { Outcome, useReading } from "cista/react";
import { notices } from "./sources.js";

/** What the server tells by itself: one connection, however many components show it. */
export function Notices() {
  const reading = useReading(notices);
  return (
    <section aria-label="Notices">
      <h2>Notices</h2>
      <Outcome of={reading} loading={<p>Connecting…</p>}>
        {(all) =>
          all.length === 0 ? (
            <p>Nothing new.</p>
          ) : (
            <ul>
              {all.map((text) => (
                <li key={text}>{text}</li>
              ))}
            </ul>
          )
        }
      </Outcome>
    </section>
  );
}
