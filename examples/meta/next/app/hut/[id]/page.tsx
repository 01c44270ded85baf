import type { ServerPage } from "cista/server";
import { notFound } from "next/navigation";
import { Held } from "../../cista/held";
import { HutPanel } from "../../parts";
import { hut } from "../../sources";

export default async function HutPage({ params }: { params: Promise<{ id: string }> }) {
  const { id } = await params;
  const load = async (page: ServerPage) => {
    const { state } = await page.show(hut, { id });
    if (state === "missing") notFound();
  };
  return (
    <Held load={load}>
      <HutPanel id={id} />
    </Held>
  );
}
