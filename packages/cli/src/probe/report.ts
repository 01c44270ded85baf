import { colours } from "../terminal.js";
import type { Verdict } from "./verdict.js";
import { bytesInWords, inLines, inWords } from "./words.js";

/** A verdict for a person to read. */
export function report(verdict: Verdict): string {
  const { status, statusText, contentType, bytes, milliseconds } = verdict;
  const good = status < 400 ? colours.green : colours.red;
  const size = verdict.outcome === "stream" ? "a stream" : bytesInWords(bytes);
  const head = [
    `${colours.bold(verdict.method)} ${verdict.asked}`,
    ...verdict.redirects.map((each) => colours.dim(`  ${each.status} → ${each.to}`)),
    `${good(`${status} ${statusText}`.trim())}, ${contentType ?? "no content type"}, ${size}, answered in ${milliseconds} ms`,
  ];
  return [
    head.join("\n"),
    section("What its headers say", headerLines(verdict)),
    section("What Cista makes of it", decisions(verdict)),
    ...(verdict.shape === null ? [] : [section("The body", inLines(verdict.shape, widest))]),
    ...(verdict.complaints.length === 0
      ? []
      : [section("What is odd about it", verdict.complaints.flatMap(complaintLines))]),
    ...(verdict.definition === null ? [] : [section("A source to begin with", verdict.definition.split("\n"))]),
  ].join("\n\n");
}

function section(title: string, lines: readonly string[]): string {
  return [colours.bold(title), ...lines.map((line) => `  ${line}`.trimEnd())].join("\n");
}

/** Characters. */
const widest = 96;
const longestField = 44;

function headerLines({ headers }: Verdict): string[] {
  if (headers.length === 0) return ["nothing about caching"];
  const shorter = (text: string) => (text.length > longestField ? `${text.slice(0, longestField - 1)}…` : text);
  const width = Math.max(...headers.map(({ field }) => shorter(field).length));
  return headers.map(
    ({ field, means, section }) => `${shorter(field).padEnd(width)}  ${means} ${colours.dim(`(${section})`)}`,
  );
}

const outcomes = {
  value: "a value",
  missing: "missing: there is no such thing",
  http: "a failure of kind http",
  shape: "a failure of kind shape: JSON was expected",
  "no-value": "a failure of kind no-value, unless unwrap says what value 204 (no content) stands for",
  stream: "a live source: fresh while the stream is open",
} as const;

function decisions(verdict: Verdict): string[] {
  const rows: [string, string][] = [["outcome", outcomes[verdict.outcome]]];
  if (verdict.outcome === "value" || verdict.outcome === "missing") {
    rows.push(["stored", verdict.storable ? "yes" : "no: dropped when the last one who watches has left"]);
    if (verdict.storable) rows.push(["fresh for", lifetime(verdict)], ["when stale", whenStale(verdict)]);
    rows.push(["asked again", conditional(verdict)]);
  }
  if (verdict.groups.length > 0) rows.push(["groups", verdict.groups.join(", ")]);
  return rows.map(([name, text]) => `${name.padEnd(11)}  ${text}`);
}

function lifetime({ lifetime, lifetimeFrom, age, immutable }: Verdict): string {
  if (lifetime === null) return "as long as the source says: the server states no lifetime (the default is 30 s)";
  const from = lifetime === 0 ? `not at all (${lifetimeFrom})` : `${inWords(lifetime * 1000)} (${lifetimeFrom})`;
  const old = age > 0 ? `, of which ${inWords(age * 1000)} had passed when it came` : "";
  return `${from}${old}${immutable ? ", and not asked about while that lasts" : ""}`;
}

function whenStale({ mustRevalidate, staleWhileRevalidate, staleIfError }: Verdict): string {
  if (mustRevalidate) return "never shown";
  if (staleWhileRevalidate === null && staleIfError === null)
    return "as the source's own allowances say (by default, shown while it is asked about)";
  const allowance = (seconds: number | null) =>
    seconds === null ? "as the source says" : seconds === 0 ? "never" : `for ${inWords(seconds * 1000)}`;
  return `shown while it is asked about: ${allowance(staleWhileRevalidate)}; when that fails: ${allowance(staleIfError)}`;
}

function conditional({ conditional: { by, status, works }, storable }: Verdict): string {
  if (!storable) return "whole, each time: nothing is held to ask about";
  if (by === null) return "whole, each time: there is no validator";
  const field = by === "etag" ? "If-None-Match" : "If-Modified-Since";
  if (works) return `by ${field}: answered 304, without a body`;
  return `by ${field}: answered ${status}, the whole body again`;
}

function complaintLines(text: string): string[] {
  return inLines(text, widest).map((line, index) => `${index === 0 ? colours.yellow("!") : " "} ${line}`);
}
