/** What only some answers say. */
import type { AnswerDetails, Validator } from "../api/answer.js";

/** What only some answers say. */
export interface Extra {
  readonly validator: Validator | undefined;
  readonly groups: readonly string[];
  readonly varies: AnswerDetails["varies"] | undefined;
}

/** `undefined` for an answer that says none of it: most entries carry nothing. */
export function extraOf(
  validator: Validator | undefined,
  groups: readonly string[] = [],
  varies?: AnswerDetails["varies"],
): Extra | undefined {
  return validator || varies || groups.length > 0 ? { validator, groups, varies } : undefined;
}

type Varies = AnswerDetails["varies"] | undefined;

/** What is noted of nobody: it fits no request (rule F9). */
export const forNobody = "~";

/** For whom a value is that is made of two answers: for whoever both are for. Where these are two users it is for nobody. */
export function forBoth(one: Varies, other: Varies): Varies {
  if (!one || !other) return one ?? other;
  const both: Record<string, string> = { ...one, ...other };
  for (const [field, noted] of Object.entries(one)) {
    // "*": whoever opened the page, who has not said a name so far.
    if (noted !== "*" && (other[field] ?? noted) !== noted) both[field] = forNobody;
  }
  return both;
}
