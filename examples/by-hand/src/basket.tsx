import { createContext, type ReactNode, useContext, useRef, useState } from "react";
import { Count, Removed, type Stay, Stays, Unconfirmed } from "../../board-react/src/views/basket.js";
import { Refusals, useRefusals } from "../../board-react/src/views/refusals.js";
import type { Night } from "../../board-react/src/world.js";
import { type Fetched, send, useFetched } from "./fetched.js";
import { Panel } from "./panel.js";

/** Shown by the masthead, the panel and the bunks: so it is lifted above them. */
interface Basket {
  readonly fetched: Fetched<Night[]>;
  readonly asking: boolean;
  again(): void;
  /** What is shown: what the server sent, with the changes on their way laid over it. */
  readonly nights: Night[] | undefined;
  readonly pending: number;
  /** Goes up with each change that the server has confirmed. */
  readonly changes: number;
  book(booking: { hut: string; night: string; name: string }): Promise<void>;
  cancel(night: string): Promise<void>;
}

const BasketContext = createContext<Basket | undefined>(undefined);

export function useBasket(): Basket {
  const basket = useContext(BasketContext);
  if (!basket) throw new Error("There is no BasketProvider above this component.");
  return basket;
}

type Change = (nights: Night[]) => Night[];

export function BasketProvider({ children }: { children: ReactNode }) {
  const { fetched, asking, again } = useFetched<Night[]>("/api/basket", { unwrap: (body) => body.nights });
  const [layers, setLayers] = useState<readonly Change[]>([]);
  const [changes, setChanges] = useState(0);
  const before = useRef<Promise<unknown>>(Promise.resolve());

  /** Shown at once, sent after those before it, and taken away when the basket has been had anew, or it was refused. */
  const run = async (layer: Change, request: () => Promise<unknown>) => {
    setLayers((all) => [...all, layer]);
    const sent = before.current.then(request);
    before.current = sent.catch(() => {});
    try {
      await sent;
      const { body } = await send<{ nights: Night[] }>("/api/basket");
      latest.current = body.nights;
      setChanges((count) => count + 1);
    } finally {
      setLayers((all) => all.filter((other) => other !== layer));
    }
  };
  // What a change brought is newer than what was fetched before it, and older than what is fetched after it.
  const latest = useRef<Night[]>(undefined);
  const seen = useRef(fetched);
  if (seen.current !== fetched) {
    seen.current = fetched;
    latest.current = undefined;
  }

  const held = latest.current ?? fetched.value;
  const nights = held && layers.reduce((shown, layer) => layer(shown), held);
  const basket: Basket = {
    fetched: held && nights ? { state: "ready", value: nights } : fetched,
    asking,
    again,
    nights,
    pending: layers.length,
    changes,
    book: ({ hut, night, name }) =>
      run(
        (all) =>
          all.some((each) => each.night === night)
            ? all
            : [...all, { hut, night, name, pending: true as const }].sort((a, b) => a.night.localeCompare(b.night)),
        () => send("/api/basket", { method: "POST", body: JSON.stringify({ hut, night }) }),
      ),
    cancel: (night) =>
      run(
        (all) => all.filter((each) => each.night !== night),
        () => send(`/api/basket/${night}`, { method: "DELETE" }),
      ),
  };
  return <BasketContext.Provider value={basket}>{children}</BasketContext.Provider>;
}

export function BasketCount() {
  return <Count nights={useBasket().nights?.length} />;
}

export function BasketPanel({ onChoose }: { onChoose(id: string): void }) {
  const { fetched, asking, again, pending, book, cancel } = useBasket();
  const refusals = useRefusals();
  const [removed, setRemoved] = useState<Stay>();

  const add = ({ hut, name }: Stay, night: string) => refusals.watch(book({ hut, name, night }));
  const take = (night: string) => refusals.watch(cancel(night));
  const remove = (stay: Stay) => {
    setRemoved(stay);
    for (const { night } of stay.nights) take(night);
  };
  const undo = (stay: Stay) => {
    setRemoved(undefined);
    for (const { night } of stay.nights) add(stay, night);
  };
  return (
    <Panel
      title="Your basket"
      className="basket"
      of={fetched}
      asking={asking}
      again={again}
      lines={3}
      missing="You have no basket yet."
    >
      {(nights) => (
        <>
          <Stays nights={nights} {...{ onChoose, add, take, remove }} />
          <p role="status" className="note">
            <Unconfirmed changes={pending} />
            {removed && <Removed stay={removed} undo={undo} />}
          </p>
          <Refusals of={refusals} />
        </>
      )}
    </Panel>
  );
}
