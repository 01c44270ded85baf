import { useReading } from "cista/react";
import { Suspense } from "react";
import { cistaContext } from "../cista";
import { basket, huts, inLine, me, notices } from "../sources";
import type { Route } from "./+types/home";

export async function loader({ context }: Route.LoaderArgs) {
  const page = context.get(cistaContext)?.page;
  await Promise.all([page?.show(huts), page?.show(me)]);
  return null;
}

/** A navigation asks in the browser, and this server for nothing. */
export const clientLoader = () => null;

function Huts() {
  const { value, state } = useReading(huts);
  return <p data-shown="huts">{value?.map(inLine).join(", ") ?? state}</p>;
}

function Visitor() {
  const visitor = useReading(me);
  const nights = useReading(basket);
  return (
    <>
      <p data-shown="me">{visitor.value ?? visitor.state}</p>
      <p data-shown="basket">{nights.value ?? nights.state}</p>
    </>
  );
}

function Notices() {
  const { value, state } = useReading(notices);
  return <p data-shown="notices">{value ?? state}</p>;
}

export default function Home() {
  return (
    <main>
      <Huts />
      <Visitor />
      <Suspense fallback={<p data-shown="notices">loading</p>}>
        <Notices />
      </Suspense>
    </main>
  );
}
