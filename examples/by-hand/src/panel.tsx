import type { ReactNode } from "react";
import { Placeholder, Trouble } from "../../board-react/src/views/waiting.js";
import type { Fetched } from "./fetched.js";

interface PanelProps<T> {
  title: string;
  of: Fetched<T>;
  asking: boolean;
  again(): void;
  className?: string;
  missing: ReactNode;
  tools?: ReactNode;
  lines?: number;
  children: (value: T) => ReactNode;
}

export function Panel<T>(props: PanelProps<T>) {
  const { title, of: fetched, asking, again, className, tools } = props;
  return (
    <section className={`panel ${className ?? ""}`} aria-label={title}>
      <header>
        <h2>{title}</h2>
        <button type="button" className="quiet" onClick={() => again()} disabled={asking}>
          Ask now
        </button>
      </header>
      {tools}
      <div className="content" aria-busy={fetched.state === "loading"}>
        <Content {...props} />
      </div>
    </section>
  );
}

function Content<T>({ of: fetched, again, missing, lines = 4, children }: PanelProps<T>) {
  switch (fetched.state) {
    case "loading":
      return <Placeholder lines={lines} offline={!navigator.onLine} failure={undefined} />;
    case "missing":
      return <p className="note">{missing}</p>;
    case "failed":
      return <Trouble failure={fetched.error} again={() => again()} />;
    case "ready":
      return children(fetched.value);
  }
}
