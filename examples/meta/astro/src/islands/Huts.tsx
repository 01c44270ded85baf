import { CistaProvider, useReading } from "cista/react";
import { cacheHere } from "../cache";
import { basket, huts, inLine, me } from "../sources";

function Panel() {
  const list = useReading(huts);
  const visitor = useReading(me);
  const nights = useReading(basket);
  return (
    <div>
      <p data-shown="huts">{list.value?.map(inLine).join(", ") ?? list.state}</p>
      <p data-shown="me">{visitor.value ?? visitor.state}</p>
      <p data-shown="basket">{nights.value ?? nights.state}</p>
    </div>
  );
}

export default function Huts() {
  return (
    <CistaProvider cache={cacheHere()}>
      <Panel />
    </CistaProvider>
  );
}
