import type { Failure } from "cista";
import { appendPage } from "cista/http";
import { useCache, useReading, useWrite } from "cista/react";
import { useState } from "react";
import { Panel } from "./panel.js";
import { logbook, writeNote } from "./sources.js";
import { EarlierNotes, NoteForm, Notes } from "./views/notes.js";
import { Refusals, useRefusals } from "./views/refusals.js";

/** What walkers wrote in a hut, newest first, in pages; and a line of one's own. */
export function LogbookPanel({ id }: { id: string }) {
  const reading = useReading(logbook, { id });
  return (
    <Panel
      title="Logbook"
      className="logbook"
      of={reading}
      lines={4}
      missing="This hut has no logbook."
      tools={<WriteNote id={id} />}
    >
      {({ items, hasNext }) => (
        <>
          <Notes of={items} />
          {hasNext && <Earlier id={id} />}
        </>
      )}
    </Panel>
  );
}

function Earlier({ id }: { id: string }) {
  const cache = useCache();
  const [state, setState] = useState<{ asking: boolean; failure?: Failure }>({ asking: false });
  const load = () => {
    setState({ asking: true });
    appendPage(cache, logbook, { id }).then(
      () => setState({ asking: false }),
      (failure: Failure) => setState({ asking: false, failure }),
    );
  };
  return <EarlierNotes asking={state.asking} trouble={state.failure?.message} onAsk={load} />;
}

function WriteNote({ id }: { id: string }) {
  const [run] = useWrite(writeNote);
  const refusals = useRefusals();
  return (
    <>
      <NoteForm onWrite={(text) => refusals.watch(run({ id, text, by: "You" }))} />
      <Refusals of={refusals} />
    </>
  );
}
