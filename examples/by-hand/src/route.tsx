import { useEffect, useState } from "react";
import { type RouteWithHuts, Stages } from "../../board-react/src/views/stages.js";
import { type Hut, lastPart, type Route } from "../../board-react/src/world.js";
import { type Fetched, type HttpError, send, useFetched } from "./fetched.js";
import { Panel } from "./panel.js";

export function RoutePanel({ id, onChoose }: { id: string | undefined; onChoose(id: string): void }) {
  const { fetched, asking, again } = useRouteWithHuts(id);
  if (id === undefined) return null;
  return (
    <Panel
      title={fetched.value?.name ?? "Route"}
      className="route"
      of={fetched}
      asking={asking}
      again={again}
      lines={5}
      missing={`There is no route ${id}.`}
    >
      {(found) => <Stages route={found} onChoose={onChoose} />}
    </Panel>
  );
}

/** The route, and then the huts that it links to. */
function useRouteWithHuts(id: string | undefined) {
  const route = useFetched<Route>(id === undefined ? undefined : `/api/routes/${encodeURIComponent(id)}`);
  const [joined, setJoined] = useState<{ of: Route; fetched: Fetched<RouteWithHuts> }>();
  const found = route.fetched.value;
  useEffect(() => {
    if (!found) return;
    const controller = new AbortController();
    const { signal } = controller;
    const huts = found.stages.map((link) => send<Hut>(`/api/huts/${lastPart(link)}`, { signal }));
    Promise.all(huts).then(
      (all) => {
        const value = { ...found, huts: all.map(({ body }) => body) };
        if (!signal.aborted) setJoined({ of: found, fetched: { state: "ready", value } });
      },
      (error: HttpError) => {
        if (!signal.aborted) setJoined({ of: found, fetched: { state: "failed", error } });
      },
    );
    return () => controller.abort();
  }, [found]);
  const kept = joined && joined.of.id === id; // asked again: what is there stays meanwhile
  const fetched: Fetched<RouteWithHuts> =
    route.fetched.state !== "ready" ? route.fetched : kept ? joined.fetched : { state: "loading" };
  return { ...route, fetched, asking: route.asking || joined?.of !== found };
}
