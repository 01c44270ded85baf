import type { Page, Pages } from "./contract.js";

/** Whether a value that was stored, or came in a snapshot, is a list in pages. */
export function isPages(value: unknown): boolean {
  const { items, count, pages } = (value ?? {}) as Partial<Pages<unknown>>;
  if (!Array.isArray(items) || count !== items.length || !Array.isArray(pages) || pages.length === 0) return false;
  const counts = pages.map((page: unknown) => countOf(page));
  return counts.every((each) => each >= 0) && counts.reduce((sum, each) => sum + each, 0) === count;
}

/** -1 for what is no page. */
function countOf(page: unknown): number {
  const { url, count, next, previous } = (page ?? {}) as { [name in keyof Page]?: unknown };
  const isPath = (path: unknown) => path === undefined || typeof path === "string";
  const good = typeof url === "string" && isPath(next) && isPath(previous) && Number.isInteger(count);
  return good ? (count as number) : -1;
}
