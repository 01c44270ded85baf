/** Decides whether a held value may be shown. */
export interface Facts {
  readonly standing: "fresh" | "stale" | "expired" | "invalidated";
  readonly mustRevalidate: boolean;
  /** A request is under way, whatever its phase. */
  readonly asking: boolean;
  /** The last request failed. */
  readonly failed: boolean;
  /** The held value is young enough for `staleIfError`. */
  readonly coversError: boolean;
  /** It is already shown to a watcher. */
  readonly isDisplayed: boolean;
  /** It was no longer fresh when it came: shown as it came (rule F3) for as long as it is watched. */
  readonly staleOnArrival: boolean;
}

/**
 * Whether the held value may be shown: the allowances of rules F2 to F5, in their order.
 * RFC 9111 §4.2.4: nothing stale, unless an allowance or a lost connection lets it.
 */
export function mayShow(facts: Facts): boolean {
  const { standing } = facts;
  if (standing === "fresh") return true;
  // Shown to one is shown to all, and does not blink while it is asked about; must-revalidate forbids even that.
  if (facts.asking) return !facts.mustRevalidate && (standing === "stale" || facts.isDisplayed);
  if (facts.failed) return mayStandIn(facts);
  if (standing === "invalidated") return facts.isDisplayed && !facts.mustRevalidate;
  return standing === "stale" || facts.staleOnArrival;
}

/** RFC 5861 §4: whether it may be used in place of a failed answer. An invalidated one only by those who show it (rule F5). */
export function mayStandIn({
  standing,
  coversError,
  isDisplayed,
}: Pick<Facts, "standing" | "coversError" | "isDisplayed">): boolean {
  return coversError && (standing !== "invalidated" || isDisplayed);
}
