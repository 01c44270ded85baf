import { useReading } from "cista/react";
import { Panel } from "./panel.js";
import { notices } from "./sources.js";
import { Trail } from "./views/trail.js";

/** Trail notices as they come, newest first. One stream, however many components show it. */
export function NoticesPanel({ onChoose }: { onChoose(id: string): void }) {
  const reading = useReading(notices);
  return (
    <Panel title="Trail notices" className="trail" of={reading} lines={3} missing="The network has no notices.">
      {(all) => <Trail notices={all} onChoose={onChoose} />}
    </Panel>
  );
}
