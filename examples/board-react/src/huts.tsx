import { useReading } from "cista/react";
import { useEffect, useRef } from "react";
import { choose } from "./address.js";
import { Panel } from "./panel.js";
import { huts } from "./sources.js";

const regions = ["Ashdale", "Corrie Tops", "Lower Fells", "Saltmarch"];

interface HutListProps {
  region: string | undefined;
  q: string;
  chosen: string | undefined;
  onChoose(id: string): void;
}

export function HutList({ region, q, chosen, onChoose }: HutListProps) {
  // What is typed is asked for as it is typed; the list before stays until the next one is there.
  const reading = useReading(huts, { region, q: q || undefined }, { carryOver: true });
  const list = useRef<HTMLUListElement>(null);
  const loaded = reading.state === "ready";
  // biome-ignore lint/correctness/useExhaustiveDependencies: another hut was chosen, or its row is there now
  useEffect(() => {
    if (list.current) reveal(list.current, list.current.querySelector("[aria-current]"));
  }, [chosen, loaded]);
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
      {(found) =>
        found.length === 0 ? (
          <p className="note">
            No hut in {region ?? "the network"}
            {q ? ` with “${q}” in its name.` : " yet."}
          </p>
        ) : (
          <ul className="huts" ref={list}>
            {found.map((hut) => (
              <li key={hut.id}>
                <button type="button" aria-current={hut.id === chosen || undefined} onClick={() => onChoose(hut.id)}>
                  <span className="name">{hut.name}</span>
                  <span className="where">
                    {hut.region}, {hut.altitude} m
                  </span>
                </button>
              </li>
            ))}
          </ul>
        )
      }
    </Panel>
  );
}

/** Scrolls the list, and nothing around it, as far as its row is out of view. */
function reveal(list: Element, row: Element | null): void {
  if (!row) return;
  const [frame, inside] = [list.getBoundingClientRect(), row.getBoundingClientRect()];
  if (inside.top < frame.top) list.scrollTop -= frame.top - inside.top;
  else if (inside.bottom > frame.bottom) list.scrollTop += inside.bottom - frame.bottom;
}

function Search({ q }: Pick<HutListProps, "q">) {
  return (
    <div className="writing">
      <label>
        <span className="unseen">Search huts by name</span>
        <input type="search" value={q} placeholder="Search" onChange={(event) => choose({ q: event.target.value })} />
      </label>
    </div>
  );
}

function RegionFilter({ region }: Pick<HutListProps, "region">) {
  return (
    <fieldset className="regions">
      <legend className="unseen">Region</legend>
      {[undefined, ...regions].map((name) => (
        <label key={name ?? "all"}>
          <input type="radio" name="region" checked={region === name} onChange={() => choose({ region: name })} />
          <span>{name ?? "All"}</span>
        </label>
      ))}
    </fieldset>
  );
}
