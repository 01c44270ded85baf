import type { Reading } from "cista";
import { lengthOfTime, useSecond } from "./time.js";

type Light = "full" | "half" | "dark" | "shut" | "wick" | "moon";

/** The mark of one panel's entry: how good what it shows is, by shape, and the same in words. */
export function Lamp({ of: reading }: { of: Reading<unknown> }) {
  const now = useSecond();
  const asking = reading.request === "running" || reading.request === "waiting";
  return (
    <span className="lamp">
      <Mark light={lightOf(reading)} flicker={asking} />
      <span>{words(reading, now)}</span>
    </span>
  );
}

function lightOf(reading: Reading<unknown>): Light {
  if (reading.request === "offline") return "moon";
  if (reading.state === "ready") return reading.fresh ? "full" : "half";
  if (reading.state === "missing") return "wick";
  return reading.state === "failed" ? "shut" : "dark";
}

function words(reading: Reading<unknown>, now: number): string {
  const parts: string[] = [];
  if (reading.state === "ready" || reading.state === "missing") {
    if (reading.state === "missing") parts.push("none");
    parts.push(reading.fresh ? "fresh" : "stale", `${lengthOfTime(now - reading.storedAt)} old`);
  } else if (reading.state !== "loading") {
    parts.push(reading.state === "failed" ? "could not be had" : "not asked for");
  }
  if (reading.request === "running") parts.push(reading.state === "loading" ? "asking" : "checking");
  if (reading.request === "waiting") parts.push("will try again");
  if (reading.request === "offline") parts.push("offline");
  if (reading.state === "ready" && reading.failure && reading.request === "none") parts.push("last check failed");
  return parts.join(", ");
}

/** A storm lantern: its glass full of light, half, shuttered, or showing only the wick. */
function Mark({ light, flicker }: { light: Light; flicker: boolean }) {
  return (
    <svg viewBox="0 0 16 20" width="16" height="20" aria-hidden="true" className={flicker ? "mark flicker" : "mark"}>
      <path className="frame" d="M5 4.5C5 1.5 11 1.5 11 4.5M4 5.5h8M3.5 17.5h9M4.5 5.5 3.5 17.5M11.5 5.5l1 12" />
      {light === "full" && <path className="light" d="M5.4 7h5.2l.8 9H4.6z" />}
      {light === "half" && <path className="light" d="M4.95 12h6.1l.35 4H4.6z" />}
      {light === "shut" && <path className="frame" d="M5 8.5h6M4.8 11h6.4M4.6 13.5h6.8" />}
      {light === "moon" && <path className="light" d="M9.6 8a4 4 0 1 0 1.4 6 3.2 3.2 0 0 1-1.4-6z" />}
      {light === "wick" && <path className="frame" d="M8 16v-4" />}
      {flicker && (
        <path
          className="flame"
          d="M8 8.2c1.9 2.2 2.2 3.4 2.2 4.4a2.2 2.2 0 0 1-4.4 0C5.8 11.400 6.900 10.200 8 8.200z"
        />
      )}
    </svg>
  );
}
