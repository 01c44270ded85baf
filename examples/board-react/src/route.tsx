import { useReading } from "cista/react";
import { Panel } from "./panel.js";
import { routeWithHuts } from "./sources.js";

/** A route with its huts: they are links in what the server sends, each read once however many routes share it. */
export function RoutePanel({ id, onChoose }: { id: string | undefined; onChoose(id: string): void }) {
  const reading = useReading(routeWithHuts, id === undefined ? undefined : { id });
  if (id === undefined) return null;
  return (
    <Panel
      title={reading.value?.name ?? "Route"}
      className="route"
      of={reading}
      lines={5}
      missing={`There is no route ${id}.`}
    >
      {({ kilometres, climb, huts }) => (
        <>
          <p className="note">
            {kilometres} km, {climb} m of climb, {huts.length} huts
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
      )}
    </Panel>
  );
}
