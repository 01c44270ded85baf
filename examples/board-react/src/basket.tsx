import { useReading, useWrite } from "cista/react";
import { useState } from "react";
import { useKept } from "./outbox.js";
import { Panel } from "./panel.js";
import { basket, book, cancel } from "./sources.js";
import { Count, Removed, type Stay, Stays, Unconfirmed } from "./views/basket.js";
import { KeptList } from "./views/kept.js";
import { Refusals, useRefusals } from "./views/refusals.js";

/** In the masthead: reads the same key as the panel, and needs only the number. */
export function BasketCount() {
  const reading = useReading(basket, { pick: (nights) => nights.length });
  return <Count nights={reading.state === "ready" ? reading.value : undefined} />;
}

export function BasketPanel({ onChoose }: { onChoose(id: string): void }) {
  const reading = useReading(basket);
  const [runBook] = useWrite(book);
  const [runCancel] = useWrite(cancel);
  const refusals = useRefusals();
  const kept = useKept();
  const [removed, setRemoved] = useState<Stay>();

  const watch = kept.isOpen ? () => {} : refusals.watch; // the outbox tells of what it was refused, in every tab
  const add = ({ hut, name }: Stay, night: string) => watch(runBook({ hut, name, night }));
  const take = (night: string) => watch(runCancel(night));
  const remove = (stay: Stay) => {
    setRemoved(stay);
    for (const { night } of stay.nights) take(night);
  };
  const undo = (stay: Stay) => {
    setRemoved(undefined);
    for (const { night } of stay.nights) add(stay, night);
  };
  return (
    <Panel title="Your basket" className="basket" of={reading} lines={3} missing="You have no basket yet.">
      {(nights) => (
        <>
          <Stays nights={nights} {...{ onChoose, add, take, remove }} />
          <p role="status" className="note">
            {reading.state === "ready" && <Unconfirmed changes={reading.pendingWrites} />}
            {removed && <Removed stay={removed} undo={undo} />}
          </p>
          <KeptList {...kept} />
          <Refusals of={refusals} />
        </>
      )}
    </Panel>
  );
}
