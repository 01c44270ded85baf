import { useEffect, useRef, useState } from "react";
import { nowInWords } from "../../board-react/src/time.js";
import { EarlierNotes, NoteForm, Notes } from "../../board-react/src/views/notes.js";
import { Refusals, useRefusals } from "../../board-react/src/views/refusals.js";
import type { Note } from "../../board-react/src/world.js";
import { type Fetched, type HttpError, send } from "./fetched.js";
import { Panel } from "./panel.js";

interface Part {
  notes: Note[];
  next: string | undefined;
}

async function loadPart(url: string, signal: AbortSignal): Promise<Part> {
  const { body, headers } = await send<Note[]>(url, { signal });
  return { notes: body, next: /<([^>]*)>;\s*rel="?next"?/.exec(headers.get("link") ?? "")?.[1] };
}

export function LogbookPanel({ id }: { id: string }) {
  const url = `/api/huts/${encodeURIComponent(id)}/logbook`;
  const [fetched, setFetched] = useState<Fetched<Part>>({ state: "loading" });
  const [asking, setAsking] = useState(false);
  const [earlier, setEarlier] = useState<{ asking: boolean; trouble?: string }>({ asking: false });
  const [round, setRound] = useState(0);
  const [sent, setSent] = useState<readonly Note[]>([]);
  const refusals = useRefusals();
  const controller = useRef<AbortController>(undefined);

  // biome-ignore lint/correctness/useExhaustiveDependencies: `round` asks again
  useEffect(() => {
    const own = new AbortController();
    controller.current = own;
    setAsking(true);
    loadPart(url, own.signal)
      .then(
        (part) => setFetched({ state: "ready", value: part }), // back to the first part
        (error: HttpError) => {
          if (!own.signal.aborted) setFetched((now) => (now.state === "ready" ? now : { state: "failed", error }));
        },
      )
      .finally(() => own.signal.aborted || setAsking(false));
    return () => own.abort();
  }, [url, round]);

  const onEarlier = () => {
    const next = fetched.value?.next;
    const signal = controller.current?.signal;
    if (!next || !signal) return;
    setEarlier({ asking: true });
    loadPart(next, signal).then(
      (part) => {
        setEarlier({ asking: false });
        setFetched((now) => {
          if (now.state !== "ready" || now.value.next !== next) return now; // asked again meanwhile
          const known = new Set(now.value.notes.map((note) => note.id));
          const notes = [...now.value.notes, ...part.notes.filter((note) => !known.has(note.id))];
          return { state: "ready", value: { notes, next: part.next } };
        });
      },
      (error: HttpError) => setEarlier({ asking: false, trouble: error.message }),
    );
  };

  const onWrite = (text: string) => {
    const at = nowInWords();
    const note: Note = { id: `new ${at} ${text}`, at, by: "You", text, pending: true };
    setSent((all) => [note, ...all]);
    const run = send<Note>(url, { method: "POST", body: JSON.stringify({ by: "You", text }) })
      .then(({ body }) => {
        setFetched((now) =>
          now.state === "ready" ? { ...now, value: { ...now.value, notes: [body, ...now.value.notes] } } : now,
        );
      })
      .finally(() => setSent((all) => all.filter((other) => other !== note)));
    refusals.watch(run);
  };
  return (
    <Panel
      title="Logbook"
      className="logbook"
      of={fetched}
      asking={asking}
      again={() => setRound(round + 1)}
      missing="This hut has no logbook."
      tools={
        <>
          <NoteForm onWrite={onWrite} />
          <Refusals of={refusals} />
        </>
      }
    >
      {({ notes, next }) => (
        <>
          <Notes of={[...sent, ...notes]} />
          {next && <EarlierNotes asking={earlier.asking} trouble={earlier.trouble} onAsk={onEarlier} />}
        </>
      )}
    </Panel>
  );
}
