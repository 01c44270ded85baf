import { eventsFrom, origin } from "cista/http";
import { Outcome, useReading } from "cista/react";

const api = origin({ base: "https://huts.example" });

interface Notice {
  text: string;
}
/** One connection, however many components show it; it ends when the last one has gone. */
const notices = eventsFrom<void, readonly Notice[]>(api, {
  name: "notices",
  url: "/api/notices",
  start: [],
  reduce: (all, { data }) => [...all, JSON.parse(data) as Notice],
});

export function Notices() {
  const reading = useReading(notices);
  return (
    <Outcome of={reading}>
      {(all) => (
        <>
          <ul>
            {all.map(({ text }) => (
              <li key={text}>{text}</li>
            ))}
          </ul>
          {reading.request === "waiting" && <p>The connection is lost; another try is on its way.</p>}
        </>
      )}
    </Outcome>
  );
}
