/** Why a read was not answered from the held value (RFC 9211 §2.2): nothing there, too old, or the reader wanted a request. */
export type Forward = "miss" | "stale" | "request" | "bypass";

/** RFC 9211 §2.1, §2.4: answered from the held value, with the seconds of freshness left (negative: stale since). */
export function hitStatus(freshFor: number): string {
  return `Cista; hit${Number.isFinite(freshFor) ? `; ttl=${Math.floor(freshFor / 1000)}` : ""}`;
}

/** The result of a forwarded request (RFC 9211 §2.3, §2.5). */
export interface ForwardEnd {
  readonly status?: number | undefined;
  readonly stored?: boolean;
  readonly collapsed?: boolean;
  readonly detail?: string;
}

/** RFC 9211 §2.2, §2.3, §2.5, §2.6. */
export function forwardStatus(forward: Forward, more: ForwardEnd = {}): string {
  const parts = [`Cista; fwd=${forward}`];
  if (more.status !== undefined) parts.push(`fwd-status=${more.status}`);
  if (more.stored) parts.push("stored");
  if (more.collapsed) parts.push("collapsed");
  if (more.detail) parts.push(`detail=${more.detail}`);
  return parts.join("; ");
}
