import { choose, useChosen } from "../../board-react/src/address.js";
import { Contours } from "../../board-react/src/views/contours.js";
import { BasketCount, BasketPanel, BasketProvider } from "./basket.js";
import { HutPanel } from "./hut.js";
import { HutList } from "./huts.js";
import { NoticesPanel } from "./notices.js";
import { RoutePanel } from "./route.js";

/** The hut board, written the ordinary way: it looks as the other one does, and asks for what it shows by itself. */
export function Board() {
  const { hut, region, q, route } = useChosen();
  const chooseHut = (id: string) => choose({ hut: id });
  return (
    <BasketProvider>
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
    </BasketProvider>
  );
}
