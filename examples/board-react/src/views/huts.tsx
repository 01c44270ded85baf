import { memo, useEffect, useRef } from "react";
import { choose } from "../address.js";
import type { Hut } from "../world.js";

interface HutRowsProps {
  huts: readonly Hut[];
  region: string | undefined;
  q: string;
  chosen: string | undefined;
  onChoose(id: string): void;
}

export function HutRows({ huts, region, q, chosen, onChoose }: HutRowsProps) {
  const list = useRef<HTMLUListElement>(null);
  // biome-ignore lint/correctness/useExhaustiveDependencies: another hut was chosen
  useEffect(() => {
    if (list.current) reveal(list.current, list.current.querySelector("[aria-current]"));
  }, [chosen]);
  if (huts.length === 0) {
    return (
      <p className="note">
        No hut in {region ?? "the network"}
        {q ? ` with “${q}” in its name.` : " yet."}
      </p>
    );
  }
  return (
    <ul className="huts" ref={list}>
      {huts.map((hut) => (
        <HutRow key={hut.id} hut={hut} chosen={hut.id === chosen} onChoose={onChoose} />
      ))}
    </ul>
  );
}

/** When a list comes in which one hut is another, only its row is rendered: all others are the objects that they were. */
const HutRow = memo(function HutRow({
  hut,
  chosen,
  onChoose,
}: {
  hut: Hut;
  chosen: boolean;
  onChoose(id: string): void;
}) {
  return (
    <li>
      <button type="button" aria-current={chosen || undefined} onClick={() => onChoose(hut.id)}>
        <span className="name">{hut.name}</span>
        <span className="where">
          <bdi>{hut.region}</bdi>, {hut.altitude} m
        </span>
      </button>
    </li>
  );
});

const regions = ["Ashdale", "Corrie Tops", "Lower Fells", "Saltmarch"];

/** Scrolls the list, and nothing around it, as far as its row is out of view. */
function reveal(list: Element, row: Element | null): void {
  if (!row) return;
  const [frame, inside] = [list.getBoundingClientRect(), row.getBoundingClientRect()];
  if (inside.top < frame.top) list.scrollTop -= frame.top - inside.top;
  else if (inside.bottom > frame.bottom) list.scrollTop += inside.bottom - frame.bottom;
}

export function Search({ q }: { q: string }) {
  return (
    <div className="writing">
      <label>
        <span className="unseen">Search huts by name</span>
        <input type="search" value={q} placeholder="Search" onChange={(event) => choose({ q: event.target.value })} />
      </label>
    </div>
  );
}

export function RegionFilter({ region }: { region: string | undefined }) {
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
