import { Outcome, useReading, useWrite } from "cista/react";
import { useState } from "react";
import { LogbookPanel } from "./logbook.js";
import { useKept } from "./outbox.js";
import { Panel } from "./panel.js";
import { basket, book, bunks, hut, portrait, route } from "./sources.js";
import { nightInWords, tonight } from "./time.js";
import { FreeBunks, HutFacts, NoHut, PortraitText, Unchosen } from "./views/hut.js";
import { Refusals, useRefusals } from "./views/refusals.js";

/** The chosen hut, and its bunks tonight. */
export function HutPanel({ id, onRoute }: { id: string | undefined; onRoute(id: string): void }) {
  const reading = useReading(hut, id === undefined ? undefined : { id });
  if (id === undefined) return <Unchosen />;
  return (
    <div className="column">
      <Panel title={reading.value?.name ?? "Hut"} className="hut" of={reading} lines={6} missing={<NoHut id={id} />}>
        {(found) => (
          <>
            <HutFacts hut={found} nameOf={(id) => <RouteName id={id} />} onRoute={onRoute} />
            <Portrait id={id} key={id} />
          </>
        )}
      </Panel>
      {reading.state !== "missing" && (
        <>
          <BunksPanel id={id} name={reading.value?.name ?? id} />
          <LogbookPanel id={id} key={id} />
        </>
      )}
    </div>
  );
}

function RouteName({ id }: { id: string }) {
  return useReading(route, { id }).value?.name ?? id;
}

/** Loaded when it is opened; it never changes, so never again. */
function Portrait({ id }: { id: string }) {
  const [open, setOpen] = useState(false);
  const reading = useReading(portrait, { id }, { when: open });
  return (
    <details className="portrait" onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary>About this hut</summary>
      <Outcome of={reading}>{(text) => <PortraitText text={text} />}</Outcome>
    </details>
  );
}

function BunksPanel({ id, name }: { id: string; name: string }) {
  const night = tonight();
  const [runBook, booking] = useWrite(book);
  const refusals = useRefusals();
  const { isOpen: isKept } = useKept();
  const booked = useReading(basket, { pick: (nights) => nights.find((each) => each.night === night)?.hut });
  const reading = useReading(bunks, { id, night });
  return (
    <Panel
      title={`Bunks, ${nightInWords(night)}`}
      className="bunks"
      of={reading}
      lines={1}
      missing="This hut has no bunks to let."
    >
      {({ free, of }) => (
        <>
          <FreeBunks
            free={free}
            of={of}
            booked={booked.value === id}
            sending={booking.phase === "sending"}
            onBook={() => {
              const run = runBook({ hut: id, night, name, free });
              if (!isKept) refusals.watch(run); // else the basket tells of it
            }}
          />
          <Refusals of={refusals} />
        </>
      )}
    </Panel>
  );
}
