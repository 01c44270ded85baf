"use client";
import { useReading, useWrite } from "cista/react";
import { basket, hut, huts, inLine, me, notices, star } from "./sources";

export function Huts() {
  const { value, state } = useReading(huts);
  return <p data-shown="huts">{value?.map(inLine).join(", ") ?? state}</p>;
}

export function Visitor() {
  const visitor = useReading(me);
  const nights = useReading(basket);
  return (
    <>
      <p data-shown="me">{visitor.value ?? visitor.state}</p>
      <p data-shown="basket">{nights.value ?? nights.state}</p>
    </>
  );
}

export function Notices() {
  const { value, state } = useReading(notices);
  return <p data-shown="notices">{value ?? state}</p>;
}

export function HutPanel({ id }: { id: string }) {
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
