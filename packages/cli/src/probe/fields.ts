import { httpDate, parseCacheControl, parseLink, parseStringList } from "cista/http";
import { inWords } from "./words.js";

/** What one header field, or one directive of it, says to a private cache, and where that is written. */
export interface Meaning {
  readonly field: string;
  readonly means: string;
  readonly section: string;
}

type Reader = (value: string, now: number) => readonly [means: string, section: string];

const seconds = (value: string) => (/^\d+$/.test(value) ? inWords(Math.min(Number(value), 2 ** 31) * 1000) : undefined);
const length =
  (meaning: (time: string) => string, otherwise: string, section: string): Reader =>
  (value) => {
    const time = seconds(value);
    return [time === undefined ? otherwise : meaning(time), section];
  };
const flag =
  (means: string, section: string): Reader =>
  () => [means, section];

const directives: Record<string, Reader> = {
  "max-age": length((time) => `fresh for ${time}`, "cannot be read: it counts as stale", "RFC 9111 §5.2.2.1"),
  "no-cache": flag("kept, but never used without asking", "RFC 9111 §5.2.2.4"),
  "no-store": flag("not to be kept", "RFC 9111 §5.2.2.5"),
  "must-revalidate": flag("never used stale, not even when the server fails", "RFC 9111 §5.2.2.2"),
  "must-understand": flag("kept only by caches that know this status; outweighs no-store there", "RFC 9111 §5.2.2.3"),
  "no-transform": flag("for caches that change bodies; not for this one", "RFC 9111 §5.2.2.6"),
  private: flag("not for shared caches; no hindrance here", "RFC 9111 §5.2.2.7"),
  public: flag("for shared caches too; nothing new here", "RFC 9111 §5.2.2.9"),
  "proxy-revalidate": flag("for shared caches; not for this one", "RFC 9111 §5.2.2.8"),
  "s-maxage": flag("for shared caches; not for this one", "RFC 9111 §5.2.2.10"),
  immutable: flag("not asked about again while it is fresh", "RFC 8246 §2"),
  "stale-while-revalidate": length(
    (time) => `for ${time} more, shown while it is asked about`,
    "cannot be read: counts as 0",
    "RFC 5861 §3",
  ),
  "stale-if-error": length(
    (time) => `for ${time} more, shown when the server fails`,
    "cannot be read: counts as 0",
    "RFC 5861 §4",
  ),
};

const fields: Record<string, Reader> = {
  expires: (value) => {
    const at = httpDate(value);
    return [at === undefined ? "no HTTP-date: it counts as past" : "fresh until then", "RFC 9111 §5.3"];
  },
  date: (value, now) => {
    const at = httpDate(value);
    if (at === undefined) return ["no HTTP-date: it is passed over", "RFC 9110 §6.6.1"];
    const off = now - at;
    const apart = off > 0 ? `${inWords(off)} ago` : `${inWords(-off)} ahead`;
    return [Math.abs(off) < 2000 ? "made just now" : `made ${apart}, by this machine's clock`, "RFC 9110 §6.6.1"];
  },
  age: (value) => {
    const time = seconds(value.split(",")[0]?.trim() ?? "");
    if (time === undefined) return ["no number: it is passed over", "RFC 9111 §5.1"];
    const several = value.includes(",") ? "; of several numbers the first counts" : "";
    return [`has been ${time} on the way, in caches${several}`, "RFC 9111 §5.1"];
  },
  etag: (value) => [
    value.startsWith("W/") ? "a weak validator: the body may differ in what does not matter" : "a strong validator",
    "RFC 9110 §8.8.3",
  ],
  "last-modified": (value) => [
    httpDate(value) === undefined ? "no HTTP-date: a validator only by its text" : "a validator, good to the second",
    "RFC 9110 §8.8.2",
  ],
  vary: (value) => [
    value.split(",").some((name) => name.trim() === "*")
      ? "varies by what no cache can see: never used again without asking"
      : "varies by these request headers; a source sends the same ones each time",
    "RFC 9111 §4.1",
  ],
  "cache-groups": (value) => [
    parseStringList(value) ? "invalidated together with others of these groups" : "not a list of strings: passed over",
    "RFC 9875 §2",
  ],
  "retry-after": (value) => [
    /^\d+$/.test(value) || httpDate(value) !== undefined
      ? "how long to wait before asking again"
      : "no number of seconds and no HTTP-date: it is passed over",
    "RFC 9110 §10.2.3",
  ],
  link: (value) => [
    parseLink("next", value, "http://nowhere.example") ? "has the place of the next page" : "nothing that a cache uses",
    "RFC 8288 §3",
  ],
  pragma: () => ["means nothing in a response", "RFC 9111 §5.4"],
};

/** Each caching header that came, in the words of what a private cache makes of it. */
export function meanings(headers: Headers, now: number): Meaning[] {
  const found: Meaning[] = [];
  for (const [name, value] of parseCacheControl(headers.get("cache-control"))) {
    const [means, section] = directives[name]?.(value, now) ?? ["unknown, so passed over", "RFC 9111 §5.2.3"];
    const shown = value === "" ? name : `${name}=${value === "?" ? "…" : value}`;
    found.push({ field: `cache-control: ${shown}`, means, section });
  }
  for (const [name, reader] of Object.entries(fields)) {
    const value = headers.get(name);
    if (value === null) continue;
    const [means, section] = reader(value, now);
    found.push({ field: `${name}: ${value}`, means, section });
  }
  return found;
}
