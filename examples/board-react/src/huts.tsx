import { useReading } from "cista/react";
import { Panel } from "./panel.js";
import { huts } from "./sources.js";
import { HutRows, RegionFilter, Search } from "./views/huts.js";

interface HutListProps {
  region: string | undefined;
  q: string;
  chosen: string | undefined;
  onChoose(id: string): void;
}

export function HutList({ region, q, chosen, onChoose }: HutListProps) {
  // What is typed is asked for as it is typed; the list before stays until the next one is there.
  const reading = useReading(huts, { region, q: q || undefined }, { carryOver: true });
  return (
    <Panel
      title="Huts"
      className="list"
      of={reading}
      lines={9}
      missing="The network has no list of huts."
      tools={
        <>
          <Search q={q} />
          <RegionFilter region={region} />
        </>
      }
    >
      {(found) => <HutRows huts={found} {...{ region, q, chosen, onChoose }} />}
    </Panel>
  );
}
