import { useState } from "react";
import { useTally } from "./tally.js";

/** How the origin can be asked to behave, to see the board's other views. */
const moods = {
  steady: undefined,
  slow: { path: "/", latency: 3000, jitter: 1000 },
  failing: { path: "/", failing: 1 },
  absent: { path: "/", dropped: 1 },
} as const;

/** What the page made of its reads; and a switch for the origin's mood. */
export function Strip() {
  const { reads, requests } = useTally();
  return (
    <footer className="strip">
      <p>
        <b>{reads}</b> {reads === 1 ? "read" : "reads"} by components, <b>{requests}</b>{" "}
        {requests === 1 ? "request" : "requests"} sent
      </p>
      <cista-lamp />
      <OriginMood />
    </footer>
  );
}

function OriginMood() {
  const [mood, setMood] = useState(() => (sessionStorage.getItem("mood") ?? "steady") as keyof typeof moods);
  const change = async (next: keyof typeof moods) => {
    setMood(next);
    sessionStorage.setItem("mood", next);
    const fault = moods[next];
    await (fault
      ? fetch("/origin/faults", { method: "PUT", body: JSON.stringify(fault) })
      : fetch("/origin/faults", { method: "DELETE" }));
  };
  return (
    <label>
      The origin is{" "}
      <select value={mood} onChange={(event) => change(event.target.value as keyof typeof moods)}>
        {Object.keys(moods).map((name) => (
          <option key={name}>{name}</option>
        ))}
      </select>
    </label>
  );
}
