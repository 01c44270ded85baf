import { type Hut, type RunningOrigin, startOrigin } from "@cista/example-origin";
import { type Cache, createCache, entriesOf, Failure, type Source, type Write } from "cista";
import { origin as httpOrigin, path, writeTo } from "cista/http";
import { narrate } from "./narrator.js";
import { colours } from "./terminal.js";

interface TourOptions {
  /** Wait a little between the steps, for a reader's sake. */
  pause: boolean;
  print(line: string): void;
}

interface Booking {
  hut: string;
  night: string;
}

interface Stage {
  cache: Cache;
  hut: Source<{ id: string }, Hut>;
  basket: Source<void, readonly Booking[]>;
  book: Write<Booking, unknown>;
  origin: RunningOrigin;
  say(text: string): void;
}

/** A narrated run of one cache against an origin of its own, over real HTTP. */
export async function tour({ pause, print }: TourOptions): Promise<void> {
  const origin = await startOrigin();
  const cache = createCache();
  try {
    // Its own lifetimes win over the server's minute, so that nobody has to wait for a value to turn stale.
    const api = httpOrigin({ base: origin.url });
    const basket = api.source<void, readonly Booking[]>({
      name: "basket",
      url: "/api/basket",
      unwrap: (body) => body.nights,
    });
    const book = writeTo<Booking, unknown>(api, {
      name: "book",
      method: "POST",
      url: "/api/basket",
      optimistic: (booking, edit) =>
        edit
          .at(basket)
          .patch((nights) => (nights.some(({ night }) => night === booking.night) ? nights : [...nights, booking])),
    });
    const hut = api.source<{ id: string }, Hut>({
      name: "hut",
      url: ({ id }) => path`/api/huts/${id}`,
      maxAge: "1500ms",
      staleWhileRevalidate: "1m",
      retry: { times: 1, firstPause: "100ms" },
    });
    print(
      `${colours.bold("A tour of Cista")}: one cache, one origin with ${origin.world.huts.size} huts on ${origin.url}`,
    );
    const narrator = narrate(cache, print);
    const stage: Stage = { cache, hut, basket, book, origin, say: (text) => print(colours.dim(`          ${text}`)) };
    for (const [index, [title, step]] of steps.entries()) {
      if (pause && index > 0) await milliseconds(900);
      print(`\n${colours.bold(`${index + 1}. ${title}`)}`);
      await step(stage);
      await milliseconds(30); // what the step set going behind it is told before the next begins
    }
    const { all } = origin.tally.toJSON();
    print(
      `\n${colours.bold("In all")}: ${narrator.reads()} reads, ${all.requests} requests at the origin, ${all.notModified} of them answered "not modified", ${all.abandoned} aborted.`,
    );
  } finally {
    cache.dispose();
    await origin.close();
  }
}

const steps: readonly (readonly [string, (stage: Stage) => Promise<void>])[] = [
  ["A first read goes to the origin", firstRead],
  ["Five reads of one hut, at once: one request", collapsedReads],
  ["Read again while it is fresh: a hit", hit],
  ["Stale: shown at once, revalidated in the background", staleShown],
  ["A hut that does not exist is missing, not an error", missingHut],
  ["An origin that fails: tried again, then a failure that says why", failing],
  ["Nobody waits any more: the request is aborted", abort],
  ["A bunk is booked: shown at once, confirmed, and requested anew where the hut is shown", booking],
  ["Another is refused: exactly that is taken back", refusal],
];

async function firstRead({ cache, hut, say }: Stage): Promise<void> {
  const found = await cache.read(hut, { id: "h-07" });
  say(`got: ${found.name}, ${found.water} litres of water`);
}

async function collapsedReads({ cache, hut, origin, say }: Stage): Promise<void> {
  await Promise.all(Array.from({ length: 5 }, () => cache.read(hut, { id: "h-12" })));
  say(`the origin counted ${origin.tally.of("/api/huts/h-12").requests} request for it`);
}

async function hit({ cache, hut }: Stage): Promise<void> {
  await cache.read(hut, { id: "h-12" });
}

async function staleShown({ cache, hut, origin, say }: Stage): Promise<void> {
  await milliseconds(1550);
  const water = origin.world.huts.get("h-07")?.water ?? 0;
  Object.assign(origin.world.huts.get("h-07") ?? {}, { water: water - 35 });
  say(`meanwhile somebody drew 35 litres; a component now attaches to the hut of step 1`);
  await watched({ cache, hut }, "h-07", (reading) => {
    if (reading.state !== "ready") return false;
    say(`it shows ${reading.value.water} litres, ${reading.fresh ? "fresh" : "stale"}`);
    return reading.fresh;
  });
  await milliseconds(1550);
  say("stale once more, but nothing has changed: the origin answers 304, and the value stays the same object");
  await watched({ cache, hut }, "h-07", (reading) => reading.state === "ready" && reading.fresh);
}

async function missingHut({ cache, hut, say }: Stage): Promise<void> {
  const thrown = await cache.read(hut, { id: "h-99" }).catch((failure: unknown) => failure);
  if (thrown instanceof Failure)
    say(`read rejects with kind "${thrown.kind}"; a component's reading has the state "missing"`);
}

async function failing({ cache, hut, origin, say }: Stage): Promise<void> {
  origin.faults.set({ path: "/api/huts/h-20", failing: 1 });
  const thrown = await cache.read(hut, { id: "h-20" }).catch((failure: unknown) => failure);
  if (thrown instanceof Failure) say(`after ${thrown.attempts} tries: ${thrown.message.replace(origin.url, "")}`);
  origin.faults.clear();
  say("the origin is well again; the same read:");
  await cache.read(hut, { id: "h-20" });
}

async function abort({ cache, hut, origin, say }: Stage): Promise<void> {
  origin.faults.set({ path: "/api/huts/h-31", latency: 5000 });
  const seen = origin.tally.of("/api/huts/h-31");
  const leave = cache.view(hut, { id: "h-31" }).subscribe(() => {});
  await until(() => seen.requests > 0);
  say("a component waits for a slow origin, and is taken off the page");
  leave();
  await until(() => seen.abandoned > 0);
  say(`the origin saw ${seen.abandoned} connection close before it had answered`);
  origin.faults.clear();
}

async function booking({ cache, basket, book, hut, say }: Stage): Promise<void> {
  await cache.read(hut, { id: "h-12" });
  const ends = [cache.view(basket), cache.view(hut, { id: "h-12" })].map((view) => view.subscribe(() => {}));
  await settled(cache);
  const run = cache.run(book, { hut: "h-12", night: "2026-12-05" });
  say(`before any answer the basket shows ${shownNights({ cache, basket })}`);
  await run;
  await settled(cache);
  say(
    `confirmed: ${shownNights({ cache, basket })}; the server named the group "hut-h-12", so the hut was asked about too`,
  );
  for (const end of ends) end();
}

async function refusal({ cache, basket, book, origin, say }: Stage): Promise<void> {
  const end = cache.view(basket).subscribe(() => {});
  await settled(cache);
  Object.assign(origin.world.huts.get("h-15") ?? {}, { bunks: 0 });
  say("meanwhile the last bunk of another hut was taken");
  const run = cache.run(book, { hut: "h-15", night: "2026-12-06" }).catch((failure: unknown) => failure);
  say(`before any answer: ${shownNights({ cache, basket })}`);
  const failure = await run;
  if (failure instanceof Failure) say(`the server's own words: ${failure.problem?.detail}`);
  say(`and the basket is as it was: ${shownNights({ cache, basket })}`);
  end();
}

function shownNights({ cache, basket }: Pick<Stage, "cache" | "basket">): string {
  const { value = [] } = cache.peek(basket);
  return `${value.length} nights`;
}

/** Until nothing is being asked for any more. */
async function settled(cache: Cache): Promise<void> {
  while ([...entriesOf(cache)].some(({ reading }) => reading.request !== "none")) await milliseconds(5);
}

/** A component for the time being: attached until what it is shown is what it waited for. */
function watched(
  { cache, hut }: Pick<Stage, "cache" | "hut">,
  id: string,
  done: (reading: ReturnType<Cache["peek"]> & { value?: any }) => boolean,
): Promise<void> {
  const view = cache.view(hut, { id });
  return new Promise((resolve) => {
    const look = () => {
      if (!done(view.get())) return;
      end();
      resolve();
    };
    const end = view.subscribe(look);
    look();
  });
}

/** For two seconds at most: what is told is what came of it. */
async function until(holds: () => boolean): Promise<void> {
  for (let waited = 0; !holds() && waited < 2000; waited += 10) await milliseconds(10);
}

function milliseconds(length: number): Promise<void> {
  return new Promise((resolve) => setTimeout(resolve, length));
}
