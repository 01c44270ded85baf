/** Lengths of time, as numbers of milliseconds or as text. */
import { CistaError, preview } from "./failure.js";

/** Milliseconds, or text: "250ms", "30s", "15m", "2h", "1d". `Infinity` is for ever. */
export type Duration = number | `${number}${"ms" | "s" | "m" | "h" | "d"}`;

const unit: Record<string, number> = { ms: 1, s: 1_000, m: 60_000, h: 3_600_000, d: 86_400_000 };

/**
 * A duration in milliseconds, 0 or more, perhaps Infinity.
 * @param option the name of the option, for the error
 * @throws CistaError code "invalid-duration": negative, NaN, or text of another form
 */
export function milliseconds(duration: Duration, option: string): number {
  if (typeof duration === "number" && duration >= 0) return duration;
  const parts = typeof duration === "string" ? /^(\d+(?:\.\d+)?)(ms|s|m|h|d)$/.exec(duration) : null;
  if (parts) return Number(parts[1]) * (unit[parts[2] as string] as number);
  throw new CistaError(
    "invalid-duration",
    DEVELOPMENT &&
      `${option} must be a number of milliseconds, 0 or more, or text such as "250ms", "30s", "15m", "2h" or "1d", but it is ${preview(duration)}.`,
  );
}
