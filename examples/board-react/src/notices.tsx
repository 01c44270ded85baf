import { useReading } from "cista/react";
import { Panel } from "./panel.js";
import { notices } from "./sources.js";

/** Trail notices as they come, newest first. One stream, however many components show it. */
export function NoticesPanel({ onChoose }: { onChoose(id: string): void }) {
  const reading = useReading(notices);
  return (
    <Panel title="Trail notices" className="trail" of={reading} lines={3} missing="The network has no notices.">
      {(all) => (
        <ul className="notes" aria-live="polite">
          {all.length === 0 && <li className="note">No notices.</li>}
          {all
            .slice(-5)
            .reverse()
            .map(({ id, text, hut }) => (
              <li key={id}>
                {text}{" "}
                {hut && (
                  <button type="button" className="link" onClick={() => onChoose(hut)}>
                    {hut}
                  </button>
                )}
              </li>
            ))}
        </ul>
      )}
    </Panel>
  );
}
