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
