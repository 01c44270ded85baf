import { useSyncExternalStore } from "react";

/** The time, to the second, for what counts ages: renders once a second. */
export function useSecond(): number {
  return useSyncExternalStore(everySecond, () => Math.floor(Date.now() / 1000) * 1000);
}

function everySecond(listener: () => void): () => void {
  const timer = setInterval(listener, 1000);
  return () => clearInterval(timer);
}

/** "12 s", "3 min", "2 h". */
export function lengthOfTime(milliseconds: number): string {
  const seconds = Math.max(0, Math.round(milliseconds / 1000));
  if (seconds < 60) return `${seconds} s`;
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min`;
  return `${Math.floor(seconds / 3600)} h`;
}

/** Tonight, as the ISO date that the origin asks for. */
export function tonight(): string {
  const now = new Date();
  const two = (part: number) => String(part).padStart(2, "0");
  return `${now.getFullYear()}-${two(now.getMonth() + 1)}-${two(now.getDate())}`;
}

/** The night so many nights later. */
export function nightsFrom(night: string, count: number): string {
  const date = new Date(`${night}T12:00Z`);
  date.setUTCDate(date.getUTCDate() + count);
  return date.toISOString().slice(0, 10);
}

export function nightInWords(night: string): string {
  return new Date(`${night}T12:00`).toLocaleDateString("en", { weekday: "short", day: "numeric", month: "short" });
}
