import { composite, type Failure, missing } from "cista";
import { eventsFrom, origin, pagesFrom, path, writeTo } from "cista/http";
import { nowInWords } from "./time.js";
import { type Bunks, type Hut, lastPart, type Night, type Note, type Notice, type Route } from "./world.js";

// Where everything on the board comes from. How long it may be used the server says itself, in its caching headers.
const greyfell = origin();

export const huts = greyfell.source<{ region?: string | undefined; q?: string | undefined }, Hut[]>({
  name: "huts",
  url: ({ region, q }) => {
    const query = new URLSearchParams({ ...(region ? { region } : {}), ...(q ? { q } : {}) });
    return query.size > 0 ? `/api/huts?${query}` : "/api/huts";
  },
  unwrap: (body) => body.huts,
});

export const hut = greyfell.source<{ id: string }, Hut>({
  name: "hut",
  url: ({ id }) => path`/api/huts/${id}`,
});

export const bunks = greyfell.source<{ id: string; night: string }, Bunks>({
  name: "bunks",
  url: ({ id, night }) => path`/api/huts/${id}/bunks?night=${night}`,
});

/** Never changes, and the server says so: asked for once. */
export const portrait = greyfell.source<{ id: string }, string>({
  name: "portrait",
  url: ({ id }) => path`/api/huts/${id}/portrait`,
  unwrap: (body) => body.text,
});

export const route = greyfell.source<{ id: string }, Route>({
  name: "route",
  url: ({ id }) => path`/api/routes/${id}`,
});

/** That a hut was taken down is no failure of the route. */
function orNone(failure: Failure): undefined {
  if (failure.kind !== "missing") throw failure;
}

/** The huts themselves in place of the links to them. Each is an entry of its own, shared with whoever else shows it. */
export const routeWithHuts = composite({
  name: "route-with-huts",
  load: async ({ id }: { id: string }, { read }) => {
    const found = await read(route, { id }).catch(orNone);
    if (!found) return missing();
    const stages = found.stages.map((link) => read(hut, { id: lastPart(link) }).catch(orNone));
    const huts = (await Promise.all(stages)).filter((each) => each !== undefined);
    return { ...found, huts };
  },
});

export const notices = eventsFrom<void, readonly Notice[]>(greyfell, {
  name: "notices",
  url: "/api/notices",
  start: [],
  reduce: (all, { data }) => [...all, JSON.parse(data) as Notice],
});

export const basket = greyfell.source<void, Night[]>({
  name: "basket",
  url: "/api/basket",
  unwrap: (body) => body.nights,
});

export const logbook = pagesFrom<{ id: string }, Note>(greyfell, {
  name: "logbook",
  url: ({ id }) => path`/api/huts/${id}/logbook`,
});

// ── Changes: shown at once, taken back when refused. What else they touch the server's answer names. ──

interface Booking {
  hut: string;
  night: string;
  name: string;
  /** Bunks that were free when it was made. */
  free?: number;
}

export const book = writeTo<Booking, Night>(greyfell, {
  name: "book",
  method: "POST",
  url: "/api/basket",
  body: ({ hut, night }) => ({ hut, night }),
  lane: "basket",
  kept: true, // sent by a later page too, where this one is gone
  retry: { times: 3 }, // booked once, however often it is sent: each try has the same key
  optimistic({ hut, night, name, free }, edit) {
    edit.at(basket).patch((nights) => {
      if (nights.some((each) => each.night === night)) return nights;
      return [...nights, { hut, night, name, pending: true as const }].sort((a, b) => a.night.localeCompare(b.night));
    });
    if (free === undefined) return;
    edit.at(bunks, { id: hut, night }).patch((now) => (now.free < free ? now : { ...now, free: free - 1 }));
  },
});

/** By its night. */
export const cancel = writeTo<string, void>(greyfell, {
  name: "cancel",
  method: "DELETE",
  url: (night) => path`/api/basket/${night}`,
  lane: "basket",
  kept: true,
  optimistic: (night, edit) => edit.at(basket).patch((nights) => nights.filter((each) => each.night !== night)),
});

export const writeNote = writeTo<{ id: string; text: string; by: string }, Note>(greyfell, {
  name: "write-note",
  method: "POST",
  url: ({ id }) => path`/api/huts/${id}/logbook`,
  body: ({ text, by }) => ({ text, by }),
  optimistic({ id, text, by }, edit) {
    const note: Note = { id: `new ${text}`, at: nowInWords(), by, text, pending: true };
    edit.at(logbook, { id }).patch((list) => {
      const [newest] = list.items;
      if (newest?.text === text && newest.by === by) return list;
      return { ...list, items: [note, ...list.items], count: list.count + 1 };
    });
  },
});
