import { createElement, type ReactNode, useContext } from "react";
import { isWaiting } from "../binding/asked.js";
import { waitingText } from "../binding/texts.js";
import { type Members, makeReading } from "../core/doors/readings.js";
import { type Failure, type Missing, match, type Reading } from "../core/index.js";
import { TextsContext } from "./context.js";

/** Of several readings their values, in order. */
export type ValuesIn<R extends readonly Reading<any>[]> = {
  -readonly [I in keyof R]: R[I] extends Reading<infer T> ? T : never;
};

export interface OutcomeProps<T> {
  of: Reading<T>;
  loading?: ReactNode | ((reading: Reading<T>) => ReactNode);
  missing?: ReactNode | ((reading: Missing) => ReactNode);
  failed?: ReactNode | ((failure: Failure, again: () => void) => ReactNode);
  children: (value: T, reading: Reading<T>) => ReactNode;
}

/**
 * One place for the four states of a reading. A state that is left out gets a plain, accessible rendering.
 * A stand-in or carried-over value is shown as a value; its reading says that it is provisional.
 * Of several readings: their values in order, once all are there; before, the first that has failed, is missing, or loads.
 * @example
 * <Outcome of={useReading(hut, { id })}>{({ name }) => <h2>{name}</h2>}</Outcome>
 * <Outcome of={useReadings([[hut, { id }], [forecast]])}>{([{ name }, weather]) => …}</Outcome>
 */
export function Outcome<T>(props: OutcomeProps<T>): ReactNode;
export function Outcome<const R extends readonly Reading<any>[]>(
  props: Omit<OutcomeProps<ValuesIn<R>>, "of"> & { of: R },
): ReactNode;
export function Outcome<T>({ of, loading, missing, failed, children }: OutcomeProps<T>): ReactNode {
  const reading: Reading<T> = Array.isArray(of) ? combined(of) : of;
  const again = () => void reading.revalidate();
  const wait = () =>
    typeof loading === "function" ? loading(reading) : (loading ?? createElement(PlainWait, { reading }));
  return match<T, ReactNode>(reading, {
    empty: wait,
    loading: () => (reading.value === undefined ? wait() : children(reading.value, reading)),
    ready: (value) => children(value, reading),
    missing: (none) => (typeof missing === "function" ? missing(none) : (missing ?? createElement(PlainMissing))),
    failed: (failure) =>
      typeof failed === "function"
        ? failed(failure, again)
        : (failed ?? createElement(PlainFailed, { failure, again })),
  });
}

/** Several readings as one: the first state that keeps their values from being shown, or all of the values. */
function combined(readings: readonly Reading<unknown>[]): Reading<any> {
  const inState = (state: string) => readings.find((each) => each.state === state);
  const hinders = inState("failed") ?? inState("missing") ?? readings.find(isWaiting);
  if (hinders) return hinders;
  const first = (member: "failure" | "provisional") => readings.map((each) => each[member]).find(Boolean);
  const sum = (total: number, { pendingWrites = 0 }: Reading<unknown>) => total + pendingWrites;
  const shown = {
    state: first("provisional") ? "loading" : "ready",
    key: readings.map(({ key }) => key).join(", "),
    value: readings.map(({ value }) => value),
    request: readings.find(({ request }) => request !== "none")?.request ?? "none",
    failure: first("failure"),
    provisional: first("provisional"),
    fresh: readings.every(({ fresh }) => fresh),
    asOf: Math.min(...readings.map(({ asOf = Number.POSITIVE_INFINITY }) => asOf)),
    pendingWrites: readings.reduce(sum, 0),
  } as Members;
  const revalidate = async () => void (await Promise.all(readings.map((each) => each.revalidate())));
  return makeReading(shown, { revalidate }) as Reading<any>;
}

/** @param props `reading` is left out where all that is known is that something is on its way */
export function PlainWait({ reading }: { reading?: Reading<unknown> }): ReactNode {
  const text = waitingText(useContext(TextsContext), reading);
  if (reading?.state === "empty") return createElement("p", null, text);
  return createElement("p", { role: "status", "aria-busy": true }, text);
}

export function PlainMissing(): ReactNode {
  return createElement("p", null, useContext(TextsContext).missing);
}

export function PlainFailed({ failure, again }: { failure: Failure; again: () => void }): ReactNode {
  const texts = useContext(TextsContext);
  return createElement(
    "div",
    { role: "alert" },
    createElement("p", null, texts.failed(failure)),
    createElement("button", { type: "button", onClick: again }, texts.tryAgain),
  );
}
