/** @jsxImportSource solid-js */
import type { Cache } from "cista";
import { CistaProvider, createReading } from "cista/solid";
import { hut } from "./hut.js";

function HutName(props: { id: string }) {
  const reading = createReading(hut, () => ({ id: props.id }));
  return <h1>{reading.value?.name ?? reading.state}</h1>;
}

export const Page = (props: { cache: Cache }) => (
  <CistaProvider cache={props.cache}>
    <HutName id="h-07" />
  </CistaProvider>
);
