import data from "./data/header-sets.json" with { type: "json" };

/** What a private cache makes of a response, lengths of time in seconds. */
export interface Expected {
  /** Default true. */
  storable?: boolean;
  /** Freshness lifetime; left out where the response states none. */
  lifetime?: number;
  /** Its age on arrival. Default 0. */
  age?: number;
  staleWhileRevalidate?: number;
  staleIfError?: number;
  mustRevalidate?: true;
  immutable?: true;
}

export type Verdict = "not stored" | "fresh" | "shown while revalidated" | "revalidated";

export interface HeaderSet {
  readonly section: string;
  /** "{+60}" stands for the HTTP-date that many seconds from now; a field may come in several lines. */
  readonly headers: readonly (readonly [name: string, value: string])[];
  readonly status?: number;
  readonly expected: Expected;
  /** Where Chromium's own cache decides otherwise, and why that is no reason to follow it. */
  readonly chromium?: readonly [Verdict, because: string];
}

/** Made from the text of RFC 9111, RFC 9110, RFC 5861 and RFC 8246, section by section: a table of data. */
export const headerSets = data as unknown as readonly HeaderSet[];

const days = ["Sunday", "Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday"];

/** The fields with their dates filled in, `now` in milliseconds. */
export function fieldsOf({ headers }: HeaderSet, now: number): [string, string][] {
  return headers.map(([name, value]) => [
    name,
    value.replace(/\{(850|asctime)?([+-]\d+)\}/g, (_, form: string | undefined, offset: string) => {
      const date = new Date(now + Number(offset) * 1000);
      const [, day, month, year, time] = date.toUTCString().split(" ") as [string, string, string, string, string];
      const weekday = days[date.getUTCDay()] as string;
      if (form === "850") return `${weekday}, ${day}-${month}-${year.slice(2)} ${time} GMT`;
      if (form === "asctime") return `${weekday.slice(0, 3)} ${month} ${day.replace(/^0/, " ")} ${time} ${year}`;
      return date.toUTCString();
    }),
  ]);
}

/** What that means for a second request that comes at once. */
export function verdictOf({
  storable,
  lifetime = 0,
  age = 0,
  staleWhileRevalidate = 0,
  mustRevalidate,
}: Expected): Verdict {
  if (storable === false) return "not stored";
  if (age < lifetime) return "fresh";
  return !mustRevalidate && age < lifetime + staleWhileRevalidate ? "shown while revalidated" : "revalidated";
}
