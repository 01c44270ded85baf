import type { Cache } from "cista";
import { origin, path, writeTo } from "cista/http";
import { Outcome, useReading, useWrite } from "cista/react";

const api = origin({ base: "https://huts.example" });

interface Hut {
  id: string;
  name: string;
  water?: number;
}
const huts = api.source<void, Hut[]>({ name: "huts", url: "/api/huts" });

/** The row of the list is shown until the whole answer has come. */
const hut = api.source<{ id: string }, Hut>({
  name: "hut",
  url: ({ id }) => path`/api/huts/${id}`,
  standIn: ({ id }, cache: Cache) => cache.peek(huts).value?.find((row) => row.id === id),
});

/** The key of the run is the row's id until the server has given it one. */
const add = writeTo<{ name: string }, Hut>(api, {
  name: "add",
  method: "POST",
  url: "/api/huts",
  optimistic: ({ name }, edit, { idempotencyKey }) =>
    edit.at(huts).patch((rows) => [...rows, { id: idempotencyKey, name }]),
  onSuccess: (made, _, cache) => cache.put(hut, { id: made.id }, made),
});

export function Huts({ onOpen }: { onOpen: (id: string) => void }) {
  const [runAdd, { failure }] = useWrite(add);
  return (
    <Outcome of={useReading(huts)}>
      {(rows) => (
        <>
          <ul>
            {rows.map(({ id, name }) => (
              <li key={id}>
                <button type="button" onClick={() => onOpen(id)}>
                  {name}
                </button>
              </li>
            ))}
          </ul>
          <button type="button" onClick={() => void runAdd({ name: "Tarn Hut" })}>
            Add
          </button>
          {failure && <p role="alert">{failure.message}</p>}
        </>
      )}
    </Outcome>
  );
}

export function HutPage({ id }: { id: string }) {
  const reading = useReading(hut, { id });
  return (
    <Outcome of={reading}>
      {({ name, water }) => (
        <p aria-busy={reading.provisional === "stand-in"}>
          {name}: {water ?? "…"} litres
        </p>
      )}
    </Outcome>
  );
}
