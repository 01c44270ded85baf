import type { KeptWrite, Outbox } from "cista/browser";
import { useOutbox } from "cista/react";
import { createContext, useContext } from "react";

/** Where bookings wait for the network; undefined until it is open, and on pages without one. */
export const OutboxContext = createContext<Outbox | undefined>(undefined);

/** What waits in it, with what can be done about it. */
export function useKept() {
  const outbox = useContext(OutboxContext);
  const list = useOutbox<KeptWrite>(outbox);
  return {
    isOpen: outbox !== undefined,
    list,
    again: (id: string) => void outbox?.retry(id),
    putAway: (id: string) => void outbox?.drop(id),
  };
}
