/** The changes that an answer makes to an entry. Rules F6, F7, W2. */
import { type Answer, type AnswerDetails, dependenciesUnchanged } from "../api/answer.js";
import { ofEntry } from "../api/failure.js";
import type { Entry } from "../state/entry.js";

/** Holds the value and details of an answer. */
export function applyAnswer(entry: Entry, answer: Answer<unknown>, startVersion: number, now: number): void {
  const { activity } = entry;
  if (answer === dependenciesUnchanged) {
    // Nothing of its own is newer, but the announced standing of its dependencies no longer applies.
    if (activity) {
      activity.announcedStanding = "fresh";
      activity.staleOnArrival = false;
      if (!activity.failureCameWithValue) activity.failure = undefined;
    }
    return;
  }
  const details = withGroups(entry, answer);
  if (answer.kind === "unchanged") entry.freshen(details, startVersion, now);
  else entry.hold(answer.kind, answer.value, details, startVersion, now);
  activity?.layers?.removeConfirmed(startVersion);
  if (!activity || !details.failure) return;
  activity.failure = ofEntry(details.failure, entry.key, activity.request?.attempt ?? 1);
  activity.failureCameWithValue = true;
}

/** The answer's groups and the definition's own add up (rule F7). */
function withGroups(entry: Entry, { kind, value, details }: Answer<unknown>): AnswerDetails {
  if (kind === "unchanged" && !details.groups) return details; // what it does not say of groups stays as it was
  const groups = entry.groupsWith(details.groups, kind === "unchanged" ? entry.value : value);
  return groups === details.groups ? details : { ...details, groups };
}
