import { useSyncExternalStore } from "react";
import { type Listed, nothingListed } from "../binding/listed.js";

/**
 * The kept writes of an outbox (`openOutbox` of `cista/browser`): waiting, being sent or refused. Undefined while it is being opened.
 * @example
 * const waiting = useOutbox(outbox);
 * {waiting.map(({ id, write, state }) => <li key={id}>{write}: {state}</li>)}
 */
export function useOutbox<T>(outbox: Listed<T> | undefined): readonly T[] {
  const { subscribe, list } = outbox ?? nothingListed;
  return useSyncExternalStore(subscribe, list, nothingListed.list);
}
