import { useSyncExternalStore } from "react";
import { type Listed, nothingListed } from "../binding/listed.js";

/**
 * What waits in an outbox, is being sent or was refused (`openOutbox` of `cista/browser`). Undefined while that is being opened.
 * @example
 * const waiting = useOutbox(outbox);
 * {waiting.map(({ id, write, state }) => <li key={id}>{write}: {state}</li>)}
 */
export function useOutbox<T>(outbox: Listed<T> | undefined): readonly T[] {
  const { subscribe, list } = outbox ?? nothingListed;
  return useSyncExternalStore(subscribe, list, nothingListed.list);
}
