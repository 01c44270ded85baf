import type { Failure, Reading } from "cista";
import { Outcome } from "cista/react";
import type { ReactNode } from "react";

interface PanelProps<T> {
  title: string;
  of: Reading<T>;
  className?: string;
  /** Said in place of what there is none of. */
  missing: ReactNode;
  /** Above what is loaded, and there before it is. */
  tools?: ReactNode;
  /** Lines of the placeholder while nothing is there yet. */
  lines?: number;
  children: (value: T) => ReactNode;
}

/** One thing the board shows: how good it is, a way to ask now, and a view for each thing there can be to show. */
export function Panel<T>({ title, of: reading, className, missing, tools, lines = 4, children }: PanelProps<T>) {
  return (
    <section className={`panel ${className ?? ""}`} aria-label={title}>
      <header>
        <h2>{title}</h2>
        <cista-lamp entry={reading.key} />
        <button type="button" className="quiet" onClick={reading.revalidate} disabled={reading.request === "running"}>
          Ask now
        </button>
      </header>
      {tools}
      <div className="content" aria-busy={reading.state === "loading"}>
        <Outcome
          of={reading}
          loading={<Placeholder lines={lines} offline={reading.request === "offline"} failure={reading.failure} />}
          missing={<p className="note">{missing}</p>}
          failed={(failure, again) => <Trouble failure={failure} again={again} />}
        >
          {children}
        </Outcome>
      </div>
    </section>
  );
}

interface PlaceholderProps {
  lines: number;
  offline: boolean;
  failure: Failure | undefined;
}

function Placeholder({ lines, offline, failure }: PlaceholderProps) {
  const text = offline
    ? "Offline: this comes when the network is back."
    : failure
      ? `${failure.message} Trying again…`
      : "";
  return (
    <div className="placeholder" role="status">
      <p className={text ? "note" : "unseen"}>{text || "Loading…"}</p>
      {Array.from({ length: lines }, (_, line) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: lines without content have nothing else to be told by
        <span key={line} className="line" style={{ inlineSize: `${92 - ((line * 37) % 40)}%` }} />
      ))}
    </div>
  );
}

function Trouble({ failure, again }: { failure: Failure; again: () => void }) {
  return (
    <div className="trouble" role="alert">
      <p>{failure.problem?.title ?? titles[failure.kind] ?? "This could not be loaded"}</p>
      <p className="note">{failure.problem?.detail ?? failure.message}</p>
      <button type="button" onClick={again}>
        Try again
      </button>
    </div>
  );
}

const titles: Record<string, string> = {
  network: "The network gave no answer",
  timeout: "No answer came in time",
  shape: "Something else came than was expected",
};
