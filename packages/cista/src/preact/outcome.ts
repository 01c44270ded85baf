import { type ComponentChildren, createElement, type VNode } from "preact";
import { useContext } from "preact/hooks";
import { waitingText } from "../binding/texts.js";
import { type Failure, type Missing, match, type Reading } from "../core/index.js";
import { TextsContext } from "./use-reading.js";

export interface OutcomeProps<T> {
  of: Reading<T>;
  loading?: ComponentChildren | ((reading: Reading<T>) => ComponentChildren);
  missing?: ComponentChildren | ((reading: Missing) => ComponentChildren);
  failed?: ComponentChildren | ((failure: Failure, again: () => void) => ComponentChildren);
  children: (value: T, reading: Reading<T>) => ComponentChildren;
}

/**
 * One place for the four states of a reading. A state that is left out gets a plain, accessible rendering.
 * A stand-in or carried-over value is shown as a value; its reading says that it is provisional.
 * @example <Outcome of={useReading(hut, { id })}>{({ name }) => <h2>{name}</h2>}</Outcome>
 */
export function Outcome<T>({ of: reading, loading, missing, failed, children }: OutcomeProps<T>): any {
  const texts = useContext(TextsContext);
  const again = () => void reading.revalidate();
  const plainWait = () => {
    const attributes = reading.state === "empty" ? null : { role: "status", "aria-busy": true };
    return createElement("p", attributes, waitingText(texts, reading));
  };
  const plainFailed = (failure: Failure): VNode =>
    createElement("div", { role: "alert" }, [
      createElement("p", null, texts.failed(failure)),
      createElement("button", { type: "button", onClick: again }, texts.tryAgain),
    ]);
  const wait = () => (typeof loading === "function" ? loading(reading) : (loading ?? plainWait()));
  return match<T, ComponentChildren>(reading, {
    empty: wait,
    loading: () => (reading.value === undefined ? wait() : children(reading.value, reading)),
    ready: (value) => children(value, reading),
    missing: (none) =>
      typeof missing === "function" ? missing(none) : (missing ?? createElement("p", null, texts.missing)),
    failed: (failure) => (typeof failed === "function" ? failed(failure, again) : (failed ?? plainFailed(failure))),
  });
}
