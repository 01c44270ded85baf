import { origin, path } from "cista/http";
import { Outcome, useReading } from "cista/react";

const api = origin({ base: "https://huts.example" });

interface Order {
  id: string;
  state: "queued" | "under way" | "done";
}
const order = api.source<{ id: string }, Order>({
  name: "order",
  url: ({ id }) => path`/api/orders/${id}`,
  revalidateEvery: ({ state }) => (state === "done" ? false : "2s"), // until it is done
});

export function OrderState({ id }: { id: string }) {
  return <Outcome of={useReading(order, { id })}>{({ state }) => <p>The order is {state}.</p>}</Outcome>;
}

const weather = api.source({ name: "weather", url: "/api/weather", unwrap: (body: { sky: string }) => body.sky });

/** For as long as this component is there; of several intervals the shortest counts. */
export function LiveWeather() {
  const { value } = useReading(weather, { revalidateEvery: "10s" });
  return <p>{value ?? "…"}</p>;
}
