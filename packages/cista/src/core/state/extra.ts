/** Details that only some answers have. */
import type { AnswerDetails, Validator } from "../api/answer.js";

/** Details that only some answers have. */
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

/** The note on a value that is for no user: it fits no request (rule F9). */
export const forNobody = "~";

/** For whom a value of two answers is: for the users that both are for. Of two different users there is none. */
export function forBoth(one: Varies, other: Varies): Varies {
  if (!one || !other) return one ?? other;
  const both: Record<string, string> = { ...one, ...other };
  for (const [field, noted] of Object.entries(one)) {
    // "*": the user who opened the page, whose name is not known so far.
    if (noted !== "*" && (other[field] ?? noted) !== noted) both[field] = forNobody;
  }
  return both;
}
