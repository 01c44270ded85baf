import { Suspense } from "react";
import { Held } from "./cista/held";
import { Huts, Notices, Visitor } from "./parts";
import { huts, me, notices } from "./sources";

export default function Home() {
  return (
    <main>
      <Held load={(page) => Promise.all([page.show(huts), page.show(me)])}>
        <Huts />
        <Visitor />
      </Held>
      <Suspense fallback={<p data-shown="notices">loading</p>}>
        <Held load={(page) => page.show(notices)}>
          <Notices />
        </Held>
      </Suspense>
    </main>
  );
}
