import { useEffect, useState } from "react";
import { Trail } from "../../board-react/src/views/trail.js";
import type { Notice } from "../../board-react/src/world.js";
import type { Fetched } from "./fetched.js";
import { Panel } from "./panel.js";

export function NoticesPanel({ onChoose }: { onChoose(id: string): void }) {
  const [fetched, setFetched] = useState<Fetched<readonly Notice[]>>({ state: "loading" });
  const [round, setRound] = useState(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: `round` opens the stream anew
  useEffect(() => {
    let all: readonly Notice[] = [];
    const stream = new EventSource("/api/notices"); // connects again by itself, and says what it had last
    stream.addEventListener("notice", ({ data }) => {
      all = [...all, JSON.parse(data) as Notice];
      setFetched({ state: "ready", value: all });
    });
    return () => stream.close();
  }, [round]);
  return (
    <Panel
      title="Trail notices"
      className="trail"
      of={fetched}
      asking={false}
      again={() => setRound(round + 1)}
      lines={3}
      missing="The network has no notices."
    >
      {(all) => <Trail notices={all} onChoose={onChoose} />}
    </Panel>
  );
}
