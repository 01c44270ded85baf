import { type FormEvent, useState } from "react";
import type { Note } from "../world.js";

export function Notes({ of: items }: { of: readonly Note[] }) {
  return (
    <>
      {items.length === 0 && <p className="note">Nobody has written anything yet.</p>}
      <ol className="notes">
        {items.map((note) => (
          <li key={note.id} className={note.pending ? "pending" : ""}>
            <p>{note.text}</p>
            <p className="note">
              <bdi>{note.by}</bdi>,{" "}
              <time dateTime={note.at}>{new Date(`${note.at}Z`).toLocaleString("en", dateStyle)}</time>
              {note.pending && ", not confirmed yet"}
            </p>
          </li>
        ))}
      </ol>
    </>
  );
}

/** In the network's own time, wherever the reader is. */
const dateStyle = {
  day: "numeric",
  month: "short",
  hour: "2-digit",
  minute: "2-digit",
  hour12: false,
  timeZone: "UTC",
} as const;

interface EarlierNotesProps {
  asking: boolean;
  trouble: string | undefined;
  onAsk(): void;
}

export function EarlierNotes({ asking, trouble, onAsk }: EarlierNotesProps) {
  return (
    <p>
      <button type="button" className="quiet" onClick={onAsk} disabled={asking}>
        {asking ? "Asking…" : "Earlier notes"}
      </button>
      {trouble && (
        <span className="note" role="alert">
          {" "}
          They could not be loaded: {trouble}
        </span>
      )}
    </p>
  );
}

export function NoteForm({ onWrite }: { onWrite(text: string): void }) {
  const [text, setText] = useState("");
  const send = (event: FormEvent) => {
    event.preventDefault();
    onWrite(text);
    setText("");
  };
  return (
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
  );
}
