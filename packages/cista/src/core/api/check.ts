/** Checks of loaded values by a Standard Schema. */
import { type Answer, answer, isAnswer } from "./answer.js";
import { Failure, preview } from "./failure.js";

/** https://standardschema.dev */
export interface StandardSchema<I, O> {
  readonly "~standard": {
    readonly version: 1;
    readonly vendor: string;
    validate(value: unknown): unknown;
    readonly types?: { readonly input: I; readonly output: O } | undefined;
  };
}
export type OutputOf<S> = S extends StandardSchema<any, infer O> ? O : never;

/** One departure from a schema; libraries differ in how they write a path. */
interface Issue {
  readonly message: string;
  readonly path?: readonly (PropertyKey | { readonly key: PropertyKey })[];
}

/** Answers whose value has been checked, with the value as it was loaded. */
const loadedValues = new WeakMap<object, unknown>();

/**
 * The answer of a load with its value checked, so that interceptors see a value of the source's type.
 * @throws Failure kind "shape"
 */
export async function checkedAnswer(schema: StandardSchema<unknown, unknown>, came: unknown): Promise<unknown> {
  if (typeof came === "object" && came !== null && Symbol.asyncIterator in came) return came; // each of its values, when it comes
  const given = isAnswer(came) ? came : answer(came);
  if (given.kind !== "value" || given.value === undefined) return came;
  const whole = { ...given, value: await checked(schema, given.value) };
  loadedValues.set(whole, given.value);
  return whole;
}

export function wasChecked(given: Answer<unknown>): boolean {
  return loadedValues.has(given);
}

/**
 * The value as it was loaded. The value that the check has made of it may be one that cannot be stored.
 * @internal
 */
export function loadedValueOf(given: Answer<unknown>): unknown {
  return loadedValues.has(given) ? loadedValues.get(given) : given.value;
}

/**
 * The output of the schema for a loaded value.
 * @throws Failure kind "shape": where the value departs from the schema, and, in development, what came there (kinds and
 * member names only)
 */
export async function checked(schema: StandardSchema<unknown, unknown>, value: unknown): Promise<unknown> {
  const result = (await schema["~standard"].validate(value)) as { value?: unknown; issues?: readonly Issue[] };
  if (!result.issues) return result.value;
  const lines = result.issues.slice(0, 5).map((issue) => (DEVELOPMENT ? describe(issue, value) : issue.message));
  const more = result.issues.length - lines.length;
  if (more > 0) lines.push(`and ${more} more`);
  throw new Failure("shape", `The value is not what the source's check asks for: ${lines.join("; ")}.`, {
    errors: result.issues,
    retryable: false,
  });
}

function describe(issue: Issue, value: unknown): string {
  const steps = (issue.path ?? []).map((step) => (typeof step === "object" ? step.key : step));
  let came: unknown = value;
  for (const step of steps) came = (came as Record<PropertyKey, unknown> | null | undefined)?.[step];
  const place = steps.map((step) => (typeof step === "number" ? `[${step}]` : `.${String(step)}`)).join("");
  return `value${place}: ${issue.message} (came: ${kindOf(came)})`;
}

/** Kinds and member names, never the text itself: a body may hold secrets that belong in no log. */
function kindOf(value: unknown): string {
  if (typeof value === "string") return value === "" ? "empty text" : `text of ${value.length} characters`;
  return preview(value);
}
