import { choose, useChosen } from "./address.js";
import { BasketCount, BasketPanel } from "./basket.js";
import { HutPanel } from "./hut.js";
import { HutList } from "./huts.js";
import { NoticesPanel } from "./notices.js";
import { RoutePanel } from "./route.js";
import { Strip } from "./strip.js";
import { Contours } from "./views/contours.js";

const chooseHut = (id: string) => choose({ hut: id });
const chooseRoute = (id: string) => choose({ route: id });

/** The hut board. Its panels know nothing of each other: what they share, they share through the cache. */
export function Board() {
  const { hut, region, q, route } = useChosen();
  return (
    <>
      <header className="masthead">
        <Contours />
        <h1>Greyfell huts</h1>
        <p>The hut board</p>
        <BasketCount />
      </header>
      <main>
        <HutList region={region} q={q} chosen={hut} onChoose={chooseHut} />
        <HutPanel id={hut} onRoute={chooseRoute} />
        <div className="column">
          <BasketPanel onChoose={chooseHut} />
          <RoutePanel id={route} onChoose={chooseHut} />
          <NoticesPanel onChoose={chooseHut} />
        </div>
      </main>
      <Strip />
    </>
  );
}
