import hutsAsWritten from "../data/huts.json" with { type: "json" };
import logbookAsWritten from "../data/logbook.json" with { type: "json" };
import noticesAsWritten from "../data/notices.json" with { type: "json" };
import portraitsAsWritten from "../data/portraits.json" with { type: "json" };
import routesAsWritten from "../data/routes.json" with { type: "json" };
import type { Given } from "./idempotency.js";

export interface Hut {
  id: string;
  name: string;
  region: string;
  /** Metres above the sea. */
  altitude: number;
  bunks: number;
  warden: string;
  /** Litres in the tank. */
  water: number;
  /** 1 is January. */
  openMonths: number[];
  /** Links to the routes that pass it. */
  routes: string[];
}

export interface Route {
  id: string;
  name: string;
  kilometres: number;
  /** Metres. */
  climb: number;
  /** Links to huts, in walking order. */
  stages: string[];
}

export interface Bunks {
  hut: string;
  /** An ISO date. */
  night: string;
  free: number;
  of: number;
}

export interface BasketNight {
  night: string;
  hut: string;
  name: string;
}

/** A note in a hut's logbook. */
export interface Note {
  id: string;
  /** An ISO date and time. */
  at: string;
  by: string;
  text: string;
}

/** A short trail notice, for the whole network or for one hut. */
export interface Notice {
  id: string;
  at: string;
  text: string;
  hut?: string;
}

/** The day on which the story stands still, whatever the machine's date: free bunks and new notes are of it. */
export const storyDay = "2026-11-23";

/** There was a hut of this id once. */
const takenDown = new Set(["h-37"]);

/** All that the origin knows, in memory: written files at the start, changed by requests, as it was again after `reset`. */
export class World {
  huts: Map<string, Hut> = new Map();
  routes: Map<string, Route> = new Map();
  /** When any route was last changed, in whole seconds as HTTP-dates have it. */
  routesChangedAt = 0;
  basket: BasketNight[] = [];
  notices: Notice[] = [];
  /** What was answered to unsafe requests that had a key. */
  readonly given: Map<string, Given> = new Map();
  /** By hut, newest first. */
  #logbook = new Map<string, Note[]>();
  readonly #portraits = new Map(portraitsAsWritten.map(({ hut, text }) => [hut, text]));
  readonly #listeners = new Set<(notice: Notice) => void>();
  #startedAt = Date.now();

  constructor() {
    this.reset();
  }

  reset(): void {
    this.given.clear();
    this.#startedAt = Date.now();
    this.huts = new Map(structuredClone(hutsAsWritten).map((hut) => [hut.id, hut]));
    this.routes = new Map(structuredClone(routesAsWritten).map((route) => [route.id, route]));
    this.routesChangedAt = Date.UTC(2026, 10, 1, 6);
    this.notices = structuredClone(noticesAsWritten);
    this.#logbook = new Map([...this.huts.keys()].map((id) => [id, []]));
    for (const note of logbookAsWritten) this.#logbook.get(note.id.slice(0, 4))?.push({ ...note });
    this.basket = [
      { night: "2026-11-27", hut: "h-03", name: "Scree Foot Hut" },
      { night: "2026-11-28", hut: "h-07", name: "Harebell Hut" },
    ];
  }

  isTakenDown(id: string): boolean {
    return takenDown.has(id);
  }

  /** Huts of a region and with a word in their name, by name; either may be left out. */
  hutsLike(region: string | undefined, word: string | undefined): Hut[] {
    const wanted = word?.trim().toLowerCase() ?? "";
    return [...this.huts.values()]
      .filter((hut) => !region || hut.region === region)
      .filter((hut) => hut.name.toLowerCase().includes(wanted))
      .sort((one, other) => one.name.localeCompare(other.name, "en"));
  }

  portrait(hut: Hut): string {
    return this.#portraits.get(hut.id) ?? "";
  }

  /** The same for the same hut and night: some are taken by walkers who are not in this story. */
  bunks(hut: Hut, night: string): Bunks {
    let taken = 0;
    for (const character of hut.id + night) taken = (taken * 31 + character.charCodeAt(0)) % 997;
    const booked = this.basket.filter((entry) => entry.hut === hut.id && entry.night === night).length;
    return { hut: hut.id, night, free: Math.max(0, (taken % (hut.bunks + 1)) - booked), of: hut.bunks };
  }

  changeRoute(route: Route, members: Partial<Route>): Route {
    this.routesChangedAt = Math.max(this.routesChangedAt + 1000, Math.floor(Date.now() / 1000) * 1000);
    return Object.assign(route, members);
  }

  /** Evening on the story's day, as an ISO date and time. It goes on with the machine's clock. */
  #storyTime(): string {
    return new Date(Date.parse(`${storyDay}T18:00Z`) + Math.max(0, Date.now() - this.#startedAt)).toISOString();
  }

  // ── The logbook ────────────────────────────────────────────────────────────

  notes(hut: Hut): readonly Note[] {
    return this.#logbook.get(hut.id) ?? [];
  }

  write(hut: Hut, by: string, text: string): Note {
    const notes = this.#logbook.get(hut.id) ?? [];
    const newest = Number(notes[0]?.id.slice(5) ?? 9000);
    const note = { id: `${hut.id}-${newest + 1}`, at: this.#storyTime().slice(0, 16), by, text };
    notes.unshift(note);
    return note;
  }

  // ── Notices ────────────────────────────────────────────────────────────────

  /** Those that came after the one of this id; all, without one that is known. */
  noticesAfter(id: string | undefined): readonly Notice[] {
    return this.notices.slice(this.notices.findIndex((notice) => notice.id === id) + 1);
  }

  publish(text: string, hut?: string): Notice {
    const id = String(Number(this.notices.at(-1)?.id ?? 0) + 1);
    const notice: Notice = { id, at: this.#storyTime(), text, ...(hut ? { hut } : {}) };
    this.notices.push(notice);
    for (const listener of this.#listeners) listener(notice);
    return notice;
  }

  /** Returns its own end. */
  onNotice(listener: (notice: Notice) => void): () => void {
    this.#listeners.add(listener);
    return () => this.#listeners.delete(listener);
  }
}
