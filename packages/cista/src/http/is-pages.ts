import type { ListPage, Pages } from "./contract.js";

/** Whether a value that was stored, or came in a snapshot, is a list in pages. */
export function isPages(value: unknown): boolean {
  const { items, count, pages } = (value ?? {}) as Partial<Pages<unknown>>;
  if (!Array.isArray(items) || !Number.isInteger(count) || !Array.isArray(pages) || pages.length === 0) return false;
  return pages.every((page: unknown) => countOf(page) >= 0);
}

/** -1 for a value that is no page. */
function countOf(page: unknown): number {
  const { url, count, next, previous } = (page ?? {}) as { [name in keyof ListPage]?: unknown };
  const isPath = (path: unknown) => path === undefined || typeof path === "string";
  const good = typeof url === "string" && isPath(next) && isPath(previous) && Number.isInteger(count);
  return good ? (count as number) : -1;
}
