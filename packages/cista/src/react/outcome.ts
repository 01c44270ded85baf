import { createElement, type ReactNode } from "react";
import { type Failure, type Missing, match, type Reading } from "../core/index.js";

export interface OutcomeProps<T> {
  of: Reading<T>;
  loading?: ReactNode | ((reading: Reading<T>) => ReactNode);
  missing?: ReactNode | ((reading: Missing) => ReactNode);
  failed?: ReactNode | ((failure: Failure, again: () => void) => ReactNode);
  children: (value: T, reading: Reading<T>) => ReactNode;
}

/**
 * One place for the four things there can be to show. What is left out gets a plain, accessible rendering.
 * A stand-in or carried-over value is shown as a value; its reading says that it is provisional.
 */
export function Outcome<T>({ of: reading, loading, missing, failed, children }: OutcomeProps<T>): ReactNode {
  const again = () => void reading.revalidate();
  const wait = () => (typeof loading === "function" ? loading(reading) : (loading ?? plainWait(reading)));
  return match<T, ReactNode>(reading, {
    empty: wait,
    loading: () => (reading.value === undefined ? wait() : children(reading.value, reading)),
    ready: (value) => children(value, reading),
    missing: (none) => (typeof missing === "function" ? missing(none) : (missing ?? plainMissing())),
    failed: (failure) =>
      typeof failed === "function" ? failed(failure, again) : (failed ?? plainFailed(failure, again)),
  });
}

/** @param reading left out where all that is known is that something is on its way */
export function plainWait(reading?: Reading<unknown>): ReactNode {
  if (reading?.state === "empty") return createElement("p", null, "Nothing to show yet.");
  const text = reading?.request === "offline" ? "Offline: waiting for the network." : "Loading…";
  return createElement("p", { role: "status", "aria-busy": true }, text);
}

export function plainMissing(): ReactNode {
  return createElement("p", null, "There is no such thing.");
}

export function plainFailed(failure: Failure, again: () => void): ReactNode {
  return createElement(
    "div",
    { role: "alert" },
    createElement("p", null, failure.message),
    createElement("button", { type: "button", onClick: again }, "Try again"),
  );
}
