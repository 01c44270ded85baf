import type { Failure } from "cista";
import { appendPage } from "cista/http";
import { useCache, useReading, useWrite } from "cista/react";
import { type FormEvent, useState } from "react";
import { Panel } from "./panel.js";
import { Refusals, useRefusals } from "./refusals.js";
import { logbook, writeNote } from "./sources.js";

/** What walkers wrote in a hut, newest first, in parts; and a line of one's own. */
export function LogbookPanel({ id }: { id: string }) {
  const reading = useReading(logbook, { id });
  return (
    <Panel
      title="Logbook"
      className="logbook"
      of={reading}
      lines={4}
      missing="This hut has no logbook."
      tools={<NoteForm id={id} />}
    >
      {({ items, hasNext }) => (
        <>
          {items.length === 0 && <p className="note">Nobody has written anything yet.</p>}
          <ol className="notes">
            {items.map((note) => (
              <li key={note.id} className={note.pending ? "pending" : ""}>
                <p>{note.text}</p>
                <p className="note">
                  {note.by}, <time dateTime={note.at}>{new Date(`${note.at}Z`).toLocaleString("en", dateStyle)}</time>
                  {note.pending && ", not confirmed yet"}
                </p>
              </li>
            ))}
          </ol>
          {hasNext && <Earlier id={id} />}
        </>
      )}
    </Panel>
  );
}

const dateStyle = { day: "numeric", month: "short", hour: "2-digit", minute: "2-digit", hour12: false } as const;

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
  return (
    <p>
      <button type="button" className="quiet" onClick={load} disabled={state.asking}>
        {state.asking ? "Asking…" : "Earlier notes"}
      </button>
      {state.failure && (
        <span className="note" role="alert">
          {" "}
          They could not be had: {state.failure.message}
        </span>
      )}
    </p>
  );
}

function NoteForm({ id }: { id: string }) {
  const [text, setText] = useState("");
  const [run] = useWrite(writeNote);
  const refusals = useRefusals();
  const send = (event: FormEvent) => {
    event.preventDefault();
    refusals.watch(run({ id, text, by: "You" }));
    setText("");
  };
  return (
    <>
      <form className="writing" onSubmit={send}>
        <label>
          <span className="unseen">Your note</span>
          <input
            value={text}
            onChange={(event) => setText(event.target.value)}
            placeholder="A line for the logbook"
            required
          />
        </label>
        <button type="submit" className="quiet">
          Write
        </button>
      </form>
      <Refusals of={refusals} />
    </>
  );
}
