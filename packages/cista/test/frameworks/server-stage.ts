import { createCache, entriesOf, source } from "cista";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { expect } from "vitest";

/** A cache for one request on a server, and a source whose loads are counted. */
export function serverStage() {
  const clock = virtualClock(1000);
  const cache = createCache({ clock, environment: virtualEnvironment() });
  let loads = 0;
  const load = async (_id: number): Promise<string> => {
    loads++;
    return "Harebell";
  };
  const hut = source({ name: "hut", maxAge: "1h", load });
  return {
    cache,
    hut,
    loads: () => loads,
    /** Nothing attached, and nothing left once the cache is disposed of. */
    check() {
      expect([...entriesOf(cache)].filter(({ watchers }) => watchers > 0)).toEqual([]);
      cache.dispose();
      expect(clock.pendingTimers).toBe(0);
    },
  };
}
