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
