import type { Reading } from "cista";
import { Outcome } from "cista/react";
import type { ReactNode } from "react";
import { Placeholder, Trouble } from "./views/waiting.js";

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
        <button type="button" className="quiet" onClick={reading.revalidate}>
          Ask now
        </button>
      </header>
      {tools}
      <div className="content" aria-busy={reading.state === "loading"}>
        <Outcome
          of={reading}
          loading={({ request, failure }) => (
            <Placeholder lines={lines} offline={request === "offline"} failure={failure} />
          )}
          missing={<p className="note">{missing}</p>}
          failed={(failure, again) => <Trouble failure={failure} again={again} />}
        >
          {children}
        </Outcome>
      </div>
    </section>
  );
}
