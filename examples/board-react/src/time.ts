/** The day on which the story stands still, as an ISO date: the origin's world has the same (examples/origin/src/world.ts). */
const storyDay = "2026-11-23";

/** Tonight, as the ISO date that the origin asks for. */
export function tonight(): string {
  return storyDay;
}

/** Now, as the logbook writes it: an ISO date and time without seconds. */
export function nowInWords(): string {
  return `${storyDay}T18:00`;
}

/** The night so many nights later. */
export function nightsFrom(night: string, count: number): string {
  const date = new Date(`${night}T12:00Z`);
  date.setUTCDate(date.getUTCDate() + count);
  return date.toISOString().slice(0, 10);
}

export function nightInWords(night: string): string {
  const style = { weekday: "short", day: "numeric", month: "short", timeZone: "UTC" } as const;
  return new Date(`${night}T12:00Z`).toLocaleDateString("en", style);
}
