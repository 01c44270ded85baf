/** A part of a reading, as a view with `pick` shows it. Rule N2. */
import { asFailure, Failure, ofEntry } from "../api/failure.js";
import { type AnyReading, nothing, readingWith, samePart } from "../api/reading.js";
import { report } from "./guarded.js";
import { shareKeeping } from "./share.js";

/** The reading with only a part of its value; the part shown before where nothing in it changed (rule N2). */
export function picked(whole: AnyReading, pick: (value: any) => unknown, before: AnyReading | undefined): AnyReading {
  let value: unknown;
  try {
    value = whole.value === undefined ? undefined : pick(whole.value);
  } catch (thrown) {
    return failedPick(whole, thrown);
  }
  if (!before || before.key !== whole.key) return readingWith(whole, { value });
  const part = readingWith(whole, { value: shareKeeping(before.value, value) });
  return samePart(before, part) ? before : part;
}

/** One failed reading for each whole, so that looking twice shows one object, and the mistake is reported once. */
const failedPicks = new WeakMap<AnyReading, AnyReading>();

function failedPick(whole: AnyReading, cause: unknown): AnyReading {
  const known = failedPicks.get(whole);
  if (known) return known;
  report(cause);
  const failure = new Failure("load", `pick of ${whole.key} threw: ${asFailure(cause).message}`, { cause });
  const reading = readingWith(whole, { ...nothing, state: "failed", failure: ofEntry(failure, whole.key, 0) });
  failedPicks.set(whole, reading);
  return reading;
}
