import { useReading, useWrite } from "cista/react";
import { data } from "react-router";
import { browserCache, cistaContext } from "../cista";
import { hut, inLine, star } from "../sources";
import type { Route } from "./+types/hut";

/** For the status of a document. */
export async function loader({ context, params }: Route.LoaderArgs) {
  const shown = await context.get(cistaContext)?.page?.show(hut, params);
  return data(null, { status: shown?.state === "missing" ? 404 : 200 });
}

/** A navigation asks in the browser, and this server for nothing. */
export function clientLoader({ params }: Route.ClientLoaderArgs) {
  browserCache?.at(hut, params).prefetch();
  return null;
}

export default function HutPage({ params: { id } }: Route.ComponentProps) {
  const { value, state } = useReading(hut, { id });
  const [run] = useWrite(star);
  return (
    <main>
      <p data-shown="hut">{value ? inLine(value) : state}</p>
      <button id="star" type="button" onClick={() => run({ id, starred: true })}>
        Star
      </button>
    </main>
  );
}
