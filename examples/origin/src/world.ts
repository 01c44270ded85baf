import hutsAsWritten from "../data/huts.json" with { type: "json" };
import routesAsWritten from "../data/routes.json" with { type: "json" };

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

/** All that the origin knows, in memory: written files at the start, changed by requests, as it was again after `reset`. */
export class World {
  huts: Map<string, Hut> = new Map();
  routes: Map<string, Route> = new Map();
  basket: BasketNight[] = [];

  constructor() {
    this.reset();
  }

  reset(): void {
    this.huts = new Map(structuredClone(hutsAsWritten).map((hut) => [hut.id, hut]));
    this.routes = new Map(structuredClone(routesAsWritten).map((route) => [route.id, route]));
    this.basket = [
      { night: "2026-11-27", hut: "h-03", name: "Scree Foot Hut" },
      { night: "2026-11-28", hut: "h-07", name: "Harebell Hut" },
    ];
  }

  /** Huts of a region and with a word in their name, by name; either may be left out. */
  hutsLike(region: string | undefined, word: string | undefined): Hut[] {
    const wanted = word?.trim().toLowerCase() ?? "";
    return [...this.huts.values()]
      .filter((hut) => !region || hut.region === region)
      .filter((hut) => hut.name.toLowerCase().includes(wanted))
      .sort((one, other) => one.name.localeCompare(other.name, "en"));
  }

  /** The same for the same hut and night: some are taken by walkers who are not in this story. */
  bunks(hut: Hut, night: string): Bunks {
    let taken = 0;
    for (const character of hut.id + night) taken = (taken * 31 + character.charCodeAt(0)) % 997;
    const booked = this.basket.filter((entry) => entry.hut === hut.id && entry.night === night).length;
    return { hut: hut.id, night, free: Math.max(0, (taken % (hut.bunks + 1)) - booked), of: hut.bunks };
  }
}
