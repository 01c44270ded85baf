import type { Told } from "../world.js";

interface PlaceholderProps {
  lines: number;
  offline: boolean;
  failure: Told | undefined;
}

export function Placeholder({ lines, offline, failure }: PlaceholderProps) {
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

export function Trouble({ failure, again }: { failure: Told; again: () => void }) {
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
