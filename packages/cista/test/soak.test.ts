import { composite, entriesOf, source } from "cista";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { expect, test } from "vitest";
import { stage } from "./stage.js";

test("N5: a virtual week with 5,000 keys: nothing piles up, one timer, no listener left", {
  timeout: 600_000,
}, async () => {
  const clock = virtualClock(Date.UTC(2026, 10, 23));
  const environment = virtualEnvironment();
  let listening = 0;
  const counted = {
    get visible() {
      return environment.visible;
    },
    get online() {
      return environment.online;
    },
    subscribe(listener: () => void) {
      listening++;
      const end = environment.subscribe(listener);
      return () => {
        listening--;
        end();
      };
    },
  };
  const { cache } = stage({ clock, environment: counted, capacity: 1000 });
  let loads = 0;
  const hut = source({
    name: "hut",
    maxAge: "5m",
    staleWhileRevalidate: "1h",
    retain: "10m",
    load: async (id: number) => ({ id, at: ++loads }),
  });
  const list = composite({
    name: "list",
    maxAge: "1m",
    load: async (page: number, { read }) => [await read(hut, page), await read(hut, page + 1)],
  });

  const sizes: number[] = [];
  const leaves: (() => void)[] = [];
  for (let hour = 0; hour < 7 * 24; hour++) {
    for (let n = 0; n < 60; n++) {
      const id = (hour * 97 + n * 131) % 5000;
      leaves.push(
        cache.view(hut, id).subscribe(() => {}),
        cache.view(list, id).subscribe(() => {}),
      );
    }
    environment.set({ visible: hour % 3 > 0, online: hour % 7 > 0 });
    await clock.advance("30m");
    for (const leave of leaves.splice(0, 60)) leave();
    await clock.advance("30m");
    for (const leave of leaves.splice(0)) leave();
    await clock.advance(0);
    expect(clock.pendingTimers).toBeLessThanOrEqual(1);
    sizes.push([...entriesOf(cache)].length);
  }
  const [early, late] = [sizes.slice(20, 44), sizes.slice(-24)].map((part) => Math.max(...part));
  expect(late).toBeLessThanOrEqual((early ?? 0) * 1.1);
  environment.set({ visible: true, online: true });
  await clock.advance("2h");
  expect([...entriesOf(cache)]).toEqual([]);
  expect(clock.pendingTimers).toBe(0);
  cache.dispose();
  expect(listening).toBe(0);
});
