import { choose, useChosen } from "./address.js";
import { BasketCount, BasketPanel } from "./basket.js";
import { HutPanel } from "./hut.js";
import { HutList } from "./huts.js";
import { NoticesPanel } from "./notices.js";
import { RoutePanel } from "./route.js";
import { Strip } from "./strip.js";

/** The hut board. Its panels know nothing of each other: what they share, they share through the cache. */
export function Board() {
  const { hut, region, q, route } = useChosen();
  const chooseHut = (id: string) => choose({ hut: id });
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
        <HutPanel id={hut} onRoute={(id) => choose({ route: id })} />
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

/** The hills, as a map would draw them. */
function Contours() {
  return (
    <svg className="contours" viewBox="0 0 600 80" preserveAspectRatio="xMaxYMid slice" aria-hidden="true">
      {[0, 1, 2, 3, 4, 5].map((ring) => (
        <path
          key={ring}
          d={`M${-20 + ring * 34} 96C${80 + ring * 26} ${20 + ring * 9},${190 + ring * 8} ${-6 + ring * 13},${300 - ring * 4} ${34 + ring * 8}S${470 - ring * 22} ${-14 + ring * 15},${620 - ring * 36} 96`}
        />
      ))}
    </svg>
  );
}
