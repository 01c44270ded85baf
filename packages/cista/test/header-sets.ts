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

const cc = (value: string, ...more: [string, string][]): [string, string][] => [["cache-control", value], ...more];

/** Made from the text of RFC 9111, RFC 9110, RFC 5861 and RFC 8246, section by section. */
export const headerSets: readonly HeaderSet[] = [
  // ── RFC 9111 §5.2.2.1 max-age, §1.2.2 delta-seconds ──
  { section: "5.2.2.1", headers: cc("max-age=60"), expected: { lifetime: 60 } },
  { section: "5.2", headers: cc("MAX-Age=60"), expected: { lifetime: 60 } },
  {
    section: "5.2",
    headers: cc('max-age="60"'),
    expected: { lifetime: 60 },
    chromium: ["revalidated", "it does not take the quoted form, which a recipient ought to (§5.2)"],
  },
  { section: "5.2.2.1", headers: cc("max-age=0"), expected: { lifetime: 0 } },
  { section: "4.2", headers: cc("max-age=60", ["age", "59"]), expected: { lifetime: 60, age: 59 } },
  { section: "4.2", headers: cc("max-age=60", ["age", "60"]), expected: { lifetime: 60, age: 60 } },
  { section: "4.2", headers: cc("max-age=60", ["age", "90"]), expected: { lifetime: 60, age: 90 } },
  { section: "4.2.1", headers: cc("max-age=-60"), expected: { lifetime: 0 } },
  { section: "4.2.1", headers: cc("max-age=soon"), expected: { lifetime: 0 } },
  { section: "4.2.1", headers: cc("max-age="), expected: { lifetime: 0 } },
  { section: "4.2.1", headers: cc("max-age"), expected: { lifetime: 0 } },
  { section: "4.2.1", headers: cc("max-age=60.5"), expected: { lifetime: 0 } },
  { section: "4.2.1", headers: cc("max-age=60s"), expected: { lifetime: 0 } },
  { section: "4.2.1", headers: cc("max-age='60'"), expected: { lifetime: 0 } },
  { section: "4.2.1", headers: cc("max-age =60"), expected: { lifetime: 0 } },
  {
    section: "4.2.1",
    headers: cc("max-age= 60"),
    expected: { lifetime: 0 },
    chromium: ["fresh", "it takes a space that the grammar does not allow"],
  },
  { section: "4.2.1", headers: cc("max-age=60; secure"), expected: { lifetime: 0 } },
  { section: "1.2.2", headers: cc("max-age=99999999999999999999"), expected: { lifetime: 2 ** 31 } },
  { section: "1.2.2", headers: cc("max-age=2147483648"), expected: { lifetime: 2 ** 31 } },
  { section: "4.2.1", headers: cc("max-age=60, max-age=60"), expected: { lifetime: 60 } },
  {
    section: "4.2.1",
    headers: cc("max-age=60, max-age=0"),
    expected: { lifetime: 0 },
    chromium: ["fresh", "the first of two, which §4.2.1 allows; Cista takes the stricter of what is allowed"],
  },
  { section: "4.2.1", headers: cc("max-age=0, max-age=60"), expected: { lifetime: 0 } },
  {
    section: "4.2.1",
    headers: cc("max-age=60", ["cache-control", "max-age=0"]),
    expected: { lifetime: 0 },
    chromium: ["fresh", "the first of two, which §4.2.1 allows; Cista takes the stricter of what is allowed"],
  },
  { section: "5.2", headers: cc("public", ["cache-control", "max-age=60"]), expected: { lifetime: 60 } },
  { section: "5.2", headers: cc(", ,  max-age=60 ,,"), expected: { lifetime: 60 } },
  { section: "5.2", headers: cc("lamp=lit, max-age=60, lantern"), expected: { lifetime: 60 } },
  { section: "5.2", headers: cc('lamp="no-store, max-age=0", max-age=60'), expected: { lifetime: 60 } },
  { section: "5.2", headers: cc('lamp="a\\"b, no-store", max-age=60'), expected: { lifetime: 60 } },
  {
    section: "5.2",
    headers: cc('lamp="never closed, no-store'),
    expected: { storable: false },
    chromium: [
      "revalidated",
      "it reads on to the end for the closing quote; Cista would rather obey a no-store too many",
    ],
  },
  { section: "5.2.2.10", headers: cc("s-maxage=60"), expected: {} },
  { section: "5.2.2.10", headers: cc("s-maxage=0, max-age=60"), expected: { lifetime: 60 } },
  // ── What forbids ──
  { section: "5.2.2.4", headers: cc("no-cache, max-age=60"), expected: { lifetime: 0, mustRevalidate: true } },
  { section: "5.2.2.4", headers: cc("max-age=60, No-Cache"), expected: { lifetime: 0, mustRevalidate: true } },
  {
    section: "5.2.2.4",
    headers: cc('no-cache="set-cookie", max-age=60'),
    expected: { lifetime: 0, mustRevalidate: true },
    chromium: ["fresh", "it obeys the form with field names for these fields alone; §5.2.2.4 allows the plain reading"],
  },
  { section: "5.2.2.5", headers: cc("no-store"), expected: { storable: false } },
  { section: "5.2.2.5", headers: cc("no-store, max-age=60"), expected: { storable: false, lifetime: 60 } },
  { section: "5.2.2.5", headers: cc("max-age=60,NO-STORE"), expected: { storable: false, lifetime: 60 } },
  {
    section: "5.2.2.5",
    headers: cc("max-age=60, no-store=please"),
    expected: { storable: false, lifetime: 60 },
    chromium: ["fresh", "it knows no-store only without an argument; Cista takes the stricter reading"],
  },
  { section: "5.2.2.2", headers: cc("must-revalidate, max-age=60"), expected: { lifetime: 60, mustRevalidate: true } },
  {
    section: "5.2.2.2",
    headers: cc("must-revalidate, max-age=60", ["age", "90"]),
    expected: { lifetime: 60, age: 90, mustRevalidate: true },
  },
  {
    section: "4.2.4",
    headers: cc("must-revalidate, max-age=60, stale-while-revalidate=60", ["age", "90"]),
    expected: { lifetime: 60, age: 90, mustRevalidate: true, staleWhileRevalidate: 60 },
  },
  {
    section: "4.2.4",
    headers: cc("no-cache, stale-while-revalidate=60"),
    expected: { lifetime: 0, mustRevalidate: true, staleWhileRevalidate: 60 },
  },
  { section: "5.2.2.8", headers: cc("proxy-revalidate, max-age=60"), expected: { lifetime: 60 } },
  { section: "5.2.2.7", headers: cc("private, max-age=60"), expected: { lifetime: 60 } },
  { section: "5.2.2.7", headers: cc('private="x-warden", max-age=60'), expected: { lifetime: 60 } },
  { section: "5.2.2.9", headers: cc("public, max-age=60"), expected: { lifetime: 60 } },
  { section: "5.2.2.6", headers: cc("no-transform, max-age=60"), expected: { lifetime: 60 } },
  { section: "5.2.2.3", headers: cc("must-understand, max-age=60"), expected: { lifetime: 60 } },
  {
    section: "5.2.2.3",
    headers: cc("must-understand, no-store, max-age=60"),
    expected: { lifetime: 60 },
    chromium: ["not stored", "it does not know must-understand (§5.2.2.3)"],
  },
  // ── RFC 8246, RFC 5861 ──
  { section: "8246 §2", headers: cc("max-age=60, immutable"), expected: { lifetime: 60, immutable: true } },
  {
    section: "8246 §2",
    headers: cc("max-age=60, immutable", ["age", "90"]),
    expected: { lifetime: 60, age: 90, immutable: true },
  },
  {
    section: "5861 §3",
    headers: cc("max-age=60, stale-while-revalidate=60"),
    expected: { lifetime: 60, staleWhileRevalidate: 60 },
  },
  {
    section: "5861 §3",
    headers: cc("max-age=60, stale-while-revalidate=60", ["age", "90"]),
    expected: { lifetime: 60, age: 90, staleWhileRevalidate: 60 },
  },
  {
    section: "5861 §3",
    headers: cc("max-age=60, stale-while-revalidate=60", ["age", "120"]),
    expected: { lifetime: 60, age: 120, staleWhileRevalidate: 60 },
  },
  {
    section: "5861 §3",
    headers: cc("max-age=0, stale-while-revalidate=later"),
    expected: { lifetime: 0, staleWhileRevalidate: 0 },
  },
  {
    section: "5861 §3",
    headers: cc("max-age=0, stale-while-revalidate=60, stale-while-revalidate=0"),
    expected: { lifetime: 0, staleWhileRevalidate: 0 },
    chromium: [
      "shown while revalidated",
      "the first of two, which §4.2.1 allows; Cista takes the stricter of what is allowed",
    ],
  },
  {
    section: "5861 §4",
    headers: cc('max-age=60, stale-if-error="600"'),
    expected: { lifetime: 60, staleIfError: 600 },
  },
  // ── RFC 9111 §5.3 Expires, RFC 9110 §5.6.7 dates ──
  { section: "5.3", headers: [["expires", "{+60}"]], expected: { lifetime: 60 } },
  {
    section: "4.2.1",
    headers: [
      ["date", "{-30}"],
      ["expires", "{+60}"],
    ],
    expected: { lifetime: 90, age: 30 },
  },
  {
    section: "4.2.1",
    headers: [
      ["date", "{-90}"],
      ["expires", "{-30}"],
    ],
    expected: { lifetime: 60, age: 90 },
  },
  { section: "5.3", headers: [["expires", "0"]], expected: { lifetime: 0 } },
  { section: "5.3", headers: [["expires", "-1"]], expected: { lifetime: 0 } },
  { section: "5.3", headers: [["expires", "{-60}"]], expected: { lifetime: 0 } },
  {
    section: "5.3",
    headers: [["expires", "2126-11-23T18:00:00Z"]],
    expected: { lifetime: 0 },
    chromium: ["fresh", "it takes dates that are no HTTP-dates; §5.3: an invalid one is in the past"],
  },
  {
    section: "5.3",
    headers: [["expires", "Sat, 23 Nov 2126 18:00:00 +0000"]],
    expected: { lifetime: 0 },
    chromium: ["fresh", "it takes dates that are no HTTP-dates; §5.3: an invalid one is in the past"],
  },
  { section: "5.3", headers: cc("max-age=60", ["expires", "0"]), expected: { lifetime: 60 } },
  { section: "5.3", headers: cc("max-age=0", ["expires", "{+3600}"]), expected: { lifetime: 0 } },
  {
    section: "5.3",
    headers: cc("max-age=soon", ["expires", "{+3600}"]),
    expected: { lifetime: 0 },
    chromium: ["fresh", "it falls back on Expires; §4.2.1: freshness information that is invalid makes it stale"],
  },
  { section: "5.3", headers: cc("s-maxage=0", ["expires", "{+60}"]), expected: { lifetime: 60 } },
  {
    section: "4.2.1",
    headers: [
      ["expires", "{+60}"],
      ["expires", "{+3600}"],
    ],
    expected: { lifetime: 0 },
    chromium: ["fresh", "the first of two, which §4.2.1 allows; Cista takes the stricter of what is allowed"],
  },
  { section: "9110 §5.6.7", headers: [["expires", "{850+60}"]], expected: { lifetime: 60 } },
  { section: "9110 §5.6.7", headers: [["expires", "{asctime+60}"]], expected: { lifetime: 60 } },
  // ── §4.2.3 age ──
  { section: "4.2.3", headers: cc("max-age=60", ["date", "{-30}"]), expected: { lifetime: 60, age: 30 } },
  { section: "4.2.3", headers: cc("max-age=60", ["date", "{-90}"]), expected: { lifetime: 60, age: 90 } },
  { section: "4.2.3", headers: cc("max-age=60", ["date", "{+3600}"]), expected: { lifetime: 60 } },
  {
    section: "4.2.3",
    headers: cc("max-age=60", ["date", "{-30}"], ["age", "50"]),
    expected: { lifetime: 60, age: 50 },
  },
  {
    section: "4.2.3",
    headers: cc("max-age=60", ["date", "{-90}"], ["age", "10"]),
    expected: { lifetime: 60, age: 90 },
  },
  { section: "9110 §6.6.1", headers: cc("max-age=60", ["date", "yesterday"]), expected: { lifetime: 60 } },
  { section: "5.1", headers: cc("max-age=60", ["age", "old"]), expected: { lifetime: 60 } },
  { section: "5.1", headers: cc("max-age=60", ["age", "-90"]), expected: { lifetime: 60 } },
  { section: "5.1", headers: cc("max-age=60", ["age", "90, 10"]), expected: { lifetime: 60, age: 90 } },
  { section: "5.1", headers: cc("max-age=60", ["age", "10, 90"]), expected: { lifetime: 60, age: 10 } },
  // ── §4.2.2 nothing stated, §4.1 Vary, §5.4 Pragma, other statuses ──
  { section: "4.2.2", headers: [], expected: {} },
  { section: "4.2.2", headers: [["etag", '"a"']], expected: {} },
  {
    section: "4.2.2",
    headers: [["last-modified", "{-36000}"]],
    expected: {},
    chromium: ["fresh", "it guesses a lifetime (§4.2.2); Cista guesses only where it is asked to"],
  },
  { section: "4.2.2", headers: cc("public"), expected: {} },
  {
    section: "4.1",
    headers: cc("max-age=60", ["vary", "*"]),
    expected: { lifetime: 0, mustRevalidate: true },
    chromium: ["not stored", "never reused either way; Cista keeps it for its validator, as for no-cache"],
  },
  {
    section: "4.1",
    headers: cc("max-age=60", ["vary", "accept, *"]),
    expected: { lifetime: 0, mustRevalidate: true },
    chromium: ["not stored", "never reused either way; Cista keeps it for its validator, as for no-cache"],
  },
  { section: "4.1", headers: cc("max-age=60", ["vary", "accept"]), expected: { lifetime: 60 } },
  {
    section: "5.4",
    headers: cc("max-age=60", ["pragma", "no-cache"]),
    expected: { lifetime: 60 },
    chromium: ["revalidated", "it obeys Pragma in a response, where §5.4 gives it no meaning"],
  },
  { section: "3", headers: cc("max-age=60"), status: 404, expected: { lifetime: 60 } },
  { section: "3", headers: cc("max-age=60"), status: 410, expected: { lifetime: 60 } },
  { section: "3", headers: cc("max-age=60"), status: 203, expected: { lifetime: 60 } },
];

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
