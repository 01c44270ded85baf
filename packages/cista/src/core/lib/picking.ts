/** A part of a reading, as a view with `pick` shows it. Rule N2. */
import { type AnyReading, samePart, withValue } from "../api/reading.js";
import { shareKeeping } from "./share.js";

/** The reading with only a part of its value; the part shown before where nothing in it changed (rule N2). */
export function picked(whole: AnyReading, pick: (value: any) => unknown, before: AnyReading | undefined): AnyReading {
  const value = whole.value === undefined ? undefined : pick(whole.value);
  if (!before || before.key !== whole.key) return withValue(whole, value);
  const part = withValue(whole, shareKeeping(before.value, value));
  return samePart(before, part) ? before : part;
}
