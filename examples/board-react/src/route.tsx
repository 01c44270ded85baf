import { useReading } from "cista/react";
import { Panel } from "./panel.js";
import { routeWithHuts } from "./sources.js";
import { Stages } from "./views/stages.js";

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
      {(found) => <Stages route={found} onChoose={onChoose} />}
    </Panel>
  );
}
