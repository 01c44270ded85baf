import type { Hut, Route } from "../world.js";

export interface RouteWithHuts extends Route {
  huts: readonly Hut[];
}

export function Stages({ route, onChoose }: { route: RouteWithHuts; onChoose(id: string): void }) {
  const { kilometres, climb, huts } = route;
  return (
    <>
      <p className="note">
        {kilometres} km, {climb} m of climb, {huts.length} {huts.length === 1 ? "hut" : "huts"}
      </p>
      <ol className="stages">
        {huts.map((hut) => (
          <li key={hut.id}>
            <button type="button" className="link" onClick={() => onChoose(hut.id)}>
              {hut.name}
            </button>
            <span className="note">
              {hut.altitude} m, {hut.water} litres
            </span>
          </li>
        ))}
      </ol>
    </>
  );
}
