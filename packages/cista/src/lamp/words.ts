import type { Reading } from "../core/index.js";

/** How a lamp burns: told by its shape. */
export type Light = "full" | "half" | "dark" | "shut" | "wick" | "moon";

export function lightOf(reading: Reading<unknown> | undefined): Light {
  if (!reading) return "dark";
  if (reading.request === "offline") return "moon";
  if (reading.state === "ready") return reading.fresh ? "full" : "half";
  if (reading.state === "missing") return "wick";
  return reading.state === "failed" ? "shut" : "dark";
}

export function isAsking(reading: Reading<unknown> | undefined): boolean {
  return reading?.request === "running" || reading?.request === "waiting";
}

/** The same in words: "fresh, 12 s old", "stale, 2 min old, checking". */
export function wordsFor(reading: Reading<unknown> | undefined, now: number): string {
  if (!reading) return "nothing held";
  const parts: string[] = [];
  if (reading.state === "ready" || reading.state === "missing") {
    if (reading.state === "missing") parts.push("none");
    parts.push(reading.fresh ? "fresh" : "stale", `${lengthOfTime(now - reading.asOf)} old`);
  } else if (reading.state !== "loading") {
    parts.push(reading.state === "failed" ? "could not be loaded" : "not asked for");
  }
  if (reading.request === "running") parts.push(reading.state === "loading" ? "asking" : "checking");
  if (reading.request === "waiting") parts.push("will try again");
  if (reading.request === "offline") parts.push("offline");
  if (reading.state === "ready" && reading.pendingWrites > 0) parts.push("not confirmed yet");
  if (reading.state === "ready" && reading.failure && reading.request === "none") parts.push("last check failed");
  return parts.join(", ");
}

/** "12 s", "3 min", "2 h". */
export function lengthOfTime(milliseconds: number): string {
  const seconds = Math.max(0, Math.round(milliseconds / 1000));
  if (seconds < 60) return `${seconds} s`;
  return seconds < 3600 ? `${Math.floor(seconds / 60)} min` : `${Math.floor(seconds / 3600)} h`;
}

/** A moment, seen from now. */
export function until(at: number | undefined, now: number): string {
  if (at === undefined) return "for ever";
  return at > now ? `for ${lengthOfTime(at - now)} more` : `no longer, since ${lengthOfTime(now - at)}`;
}

/** A value in one line: also one that JSON has no words for, or that contains itself. */
export function inOneLine(value: unknown): string {
  const text = textOf(value);
  return text.length > 160 ? `${text.slice(0, 159)}…` : text;
}

function textOf(value: unknown): string {
  try {
    return JSON.stringify(value, sayable) ?? String(value);
  } catch {
    return "something that cannot be shown"; // it contains itself, or its toJSON throws
  }
}

function sayable(_: string, member: unknown): unknown {
  return typeof member === "bigint" ? `${member}n` : member;
}
