import type { Pages, Part } from "./contract.js";

/** Whether a value that was stored, or came in a snapshot, is a list in parts. */
export function isPages(value: unknown): boolean {
  const { items, count, parts } = (value ?? {}) as Partial<Pages<unknown>>;
  if (!Array.isArray(items) || count !== items.length || !Array.isArray(parts) || parts.length === 0) return false;
  const counts = parts.map((part: unknown) => countOf(part));
  return counts.every((each) => each >= 0) && counts.reduce((sum, each) => sum + each, 0) === count;
}

/** -1 for what is no part. */
function countOf(part: unknown): number {
  const { url, count, next } = (part ?? {}) as { [name in keyof Part]?: unknown };
  const good = typeof url === "string" && (next === undefined || typeof next === "string") && Number.isInteger(count);
  return good ? (count as number) : -1;
}
