/** The use of an answer in a fleet: for whom it is, and the record that is made of it. Rules T1, T3, T10, T11. */

import { checked, loadedValueOf, wasChecked } from "../core/doors/answers.js";
import { detailsOf } from "../core/doors/sharing.js";
import { isJson, milliseconds, omitUndefined } from "../core/doors/tools.js";
import type { Answer, LoadCall } from "../core/index.js";
import { boundedLabels, sourceLabel } from "./labels.js";
import { FleetRecord } from "./record.js";

/** Who may share a source's answers. */
export type Audience = "all" | "user";

/** A value that is deeper than this is not shared: a value that contains itself ends here. */
const deepest = 200;

/**
 * The record to put for an answer; undefined where it is not for sharing.
 * @param before the former record, where the answer says that the value is as it was
 * @throws the error of the source's `check` (rule T11)
 */
export async function recordOfAnswer(
  call: LoadCall,
  answered: Answer<unknown>,
  before: FleetRecord | undefined,
  { audience, maxBytes, version, now }: { audience: Audience; maxBytes: number; version: number; now: number },
): Promise<FleetRecord | undefined> {
  const { details, kind } = answered;
  const { groups: groupsOf, check, name } = call.definition;
  // Only a value that still holds keeps its former details (RFC 9111 §4.3.4).
  const same = kind === "unchanged" ? before : undefined;
  const policy = call.policyOf(same ? { ...detailsOf(same.entry), ...details } : details);
  const use = details.shared;
  // Rule T1, RFC 9111 §3.
  if (policy.noStore || use?.for === "none" || (use?.for === "user" && audience === "all")) return undefined;
  if (call.dependsOn.length > 0 || details.failure) return undefined; // rule T10; what has a part missing is no answer for others
  if (kind === "unchanged" && !same) return undefined;
  // As it was loaded: each process applies its own check to it.
  const raw = same ? same.sharedValue : loadedValueOf(answered);
  const isMissing = kind === "missing";
  const text = isMissing ? "" : jsonText(raw, maxBytes);
  if (text === undefined) return undefined;
  const isChecked = !check || kind !== "value" || wasChecked(answered);
  const value = isChecked ? (kind === "value" ? answered.value : raw) : await checked(check, raw);
  const validator = details.validator ?? same?.entry;
  const own = details.groups ?? same?.entry.groups ?? [];
  const named = groupsOf?.(call.params, isMissing ? undefined : value) ?? [];
  const entry = omitUndefined({
    source: name,
    params: call.params,
    kind: isMissing ? ("missing" as const) : ("value" as const),
    age: details.age === undefined ? 0 : milliseconds(details.age, "age"),
    maxAge: finite(policy.maxAge),
    staleWhileRevalidate: finite(policy.staleWhileRevalidate),
    staleIfError: finite(policy.staleIfError),
    mustRevalidate: policy.mustRevalidate || undefined,
    immutable: policy.immutable || undefined,
    etag: validator?.etag,
    lastModified: validator?.lastModified,
    groups: own.length > 0 ? own : undefined,
  });
  const labels = boundedLabels([...new Set([...own, ...named, sourceLabel(name)])], name);
  // Rule T3: for the fleet s-maxage counts; for one user, whose private cache it is, max-age.
  const forAll = audience === "all" ? use : undefined;
  const isAsBefore = same && details.maxAge === undefined && !use;
  const more = {
    lifetime:
      forAll?.maxAge === undefined
        ? isAsBefore
          ? same.lifetime
          : policy.maxAge
        : milliseconds(forAll.maxAge, "maxAge"),
    mustRevalidate: forAll?.mustRevalidate ?? (isAsBefore ? same.mustRevalidate : false),
    labels,
    version,
  };
  return new FleetRecord(entry, more, text, now);
}

const finite = (length: number) => (length === Number.POSITIVE_INFINITY ? null : length);

/** Undefined for a value that JSON cannot carry as it is, or that is too large. */
function jsonText(value: unknown, maxBytes: number): string | undefined {
  if (!isJson(value, false, deepest)) return undefined;
  const text = JSON.stringify(value);
  if (text.length > maxBytes) return undefined;
  const isShort = text.length * 3 <= maxBytes; // no character takes more than three bytes for each of its units
  return isShort || new TextEncoder().encode(text).length <= maxBytes ? text : undefined;
}
