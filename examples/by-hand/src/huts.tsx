import { HutRows, RegionFilter, Search } from "../../board-react/src/views/huts.js";
import type { Hut } from "../../board-react/src/world.js";
import { useFetched } from "./fetched.js";
import { Panel } from "./panel.js";

interface HutListProps {
  region: string | undefined;
  q: string;
  chosen: string | undefined;
  onChoose(id: string): void;
}

export function HutList({ region, q, chosen, onChoose }: HutListProps) {
  const query = new URLSearchParams({ ...(region ? { region } : {}), ...(q ? { q } : {}) });
  const { fetched, ...asked } = useFetched<Hut[]>(`/api/huts?${query}`, { unwrap: (body) => body.huts, keep: true });
  return (
    <Panel
      title="Huts"
      className="list"
      of={fetched}
      {...asked}
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
