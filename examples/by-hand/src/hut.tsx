import { useEffect, useRef, useState } from "react";
import { nightInWords, tonight } from "../../board-react/src/time.js";
import { FreeBunks, HutFacts, NoHut, PortraitText, Unchosen } from "../../board-react/src/views/hut.js";
import { Refusals, useRefusals } from "../../board-react/src/views/refusals.js";
import { Placeholder, Trouble } from "../../board-react/src/views/waiting.js";
import type { Bunks, Hut, Route } from "../../board-react/src/world.js";
import { useBasket } from "./basket.js";
import { useFetched } from "./fetched.js";
import { LogbookPanel } from "./logbook.js";
import { Panel } from "./panel.js";

export function HutPanel({ id, onRoute }: { id: string | undefined; onRoute(id: string): void }) {
  const { fetched, ...asked } = useFetched<Hut>(id === undefined ? undefined : `/api/huts/${encodeURIComponent(id)}`);
  if (id === undefined) return <Unchosen />;
  return (
    <div className="column">
      <Panel
        title={fetched.value?.name ?? "Hut"}
        className="hut"
        of={fetched}
        {...asked}
        lines={6}
        missing={<NoHut id={id} />}
      >
        {(found) => (
          <>
            <HutFacts hut={found} nameOf={(id) => <RouteName id={id} />} onRoute={onRoute} />
            <Portrait id={id} key={id} />
          </>
        )}
      </Panel>
      {fetched.state !== "missing" && (
        <>
          <BunksPanel id={id} name={fetched.value?.name ?? id} />
          <LogbookPanel id={id} key={id} />
        </>
      )}
    </div>
  );
}

function RouteName({ id }: { id: string }) {
  return useFetched<Route>(`/api/routes/${encodeURIComponent(id)}`).fetched.value?.name ?? id;
}

/** Loaded when it is opened. */
function Portrait({ id }: { id: string }) {
  const [open, setOpen] = useState(false);
  const { fetched, again } = useFetched<string>(open ? `/api/huts/${encodeURIComponent(id)}/portrait` : undefined, {
    unwrap: (body) => body.text,
  });
  return (
    <details className="portrait" onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary>About this hut</summary>
      {open && fetched.state === "loading" && <Placeholder lines={1} offline={!navigator.onLine} failure={undefined} />}
      {fetched.state === "failed" && <Trouble failure={fetched.error} again={() => again()} />}
      {fetched.state === "ready" && <PortraitText text={fetched.value} />}
    </details>
  );
}

function BunksPanel({ id, name }: { id: string; name: string }) {
  const night = tonight();
  const { nights, book, changes } = useBasket();
  const { fetched, asking, again } = useFetched<Bunks>(`/api/huts/${encodeURIComponent(id)}/bunks?night=${night}`);
  const refusals = useRefusals();
  const [taken, setTaken] = useState(0); // shown at once, until the server has said so itself
  const [sending, setSending] = useState(false);
  const booked = nights?.some((each) => each.night === night && each.hut === id) ?? false;

  // A booking or a cancellation anywhere on the page may have changed the free bunks here.
  const seen = useRef(changes);
  useEffect(() => {
    if (changes === seen.current) return;
    seen.current = changes;
    again();
  }, [changes, again]);
  // biome-ignore lint/correctness/useExhaustiveDependencies: an answer has come
  useEffect(() => setTaken(0), [fetched]);

  const onBook = () => {
    setSending(true);
    setTaken(1);
    const run = book({ hut: id, night, name });
    run.catch(() => setTaken(0)).finally(() => setSending(false));
    refusals.watch(run);
  };
  return (
    <Panel
      title={`Bunks, ${nightInWords(night)}`}
      className="bunks"
      of={fetched}
      asking={asking}
      again={again}
      lines={1}
      missing="This hut has no bunks to let."
    >
      {({ free, of }) => (
        <>
          <FreeBunks free={free - taken} of={of} booked={booked} sending={sending} onBook={onBook} />
          <Refusals of={refusals} />
        </>
      )}
    </Panel>
  );
}
