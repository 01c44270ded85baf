import { A, Route, Router } from "@solidjs/router";
import type { Cache } from "cista";
import { CistaProvider, createReading, createWrite } from "cista/solid";
import { Suspense } from "solid-js";
import { basket, hut, huts, inLine, me, notices, star } from "./sources";

function Home() {
  const list = createReading(huts);
  const visitor = createReading(me);
  const nights = createReading(basket);
  return (
    <main>
      <p data-shown="huts">{list.value?.map(inLine).join(", ") ?? list.state}</p>
      <p data-shown="me">{visitor.value ?? visitor.state}</p>
      <p data-shown="basket">{nights.value ?? nights.state}</p>
      <Suspense fallback={<p data-shown="notices">loading</p>}>
        <Notices />
      </Suspense>
    </main>
  );
}

function Notices() {
  const notice = createReading(notices);
  return <p data-shown="notices">{notice.value ?? notice.state}</p>;
}

function HutPage(props: { params: { id?: string } }) {
  const id = () => props.params.id ?? "";
  const reading = createReading(hut, () => ({ id: id() }));
  const [run] = createWrite(star);
  return (
    <main>
      <p data-shown="hut">{reading.value ? inLine(reading.value) : reading.state}</p>
      <button id="star" type="button" onClick={() => run({ id: id(), starred: true })}>
        Star
      </button>
    </main>
  );
}

/** @param props.url the request's, on a server */
export function App(props: { cache: Cache; url?: string }) {
  return (
    <CistaProvider cache={props.cache}>
      <Router
        url={props.url}
        root={(site) => (
          <>
            <nav>
              <A id="to-home" href="/">
                Huts
              </A>{" "}
              <A id="to-hut" href="/hut/h-02">
                Tarn Shelf
              </A>
            </nav>
            <Suspense>{site.children}</Suspense>
          </>
        )}
      >
        <Route path="/" component={Home} />
        <Route path="/hut/:id" component={HutPage} />
      </Router>
    </CistaProvider>
  );
}
