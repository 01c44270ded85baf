import type { Cache } from "cista";
import { expect } from "vitest";
import { changeUser } from "../../src/core/kernel/users.js";
import { coreOf } from "../../src/core/state/core.js";
import type { Tab } from "./tab.js";
import { World } from "./world.js";

/** So many tabs of a world that keep writes, and show the list. */
export async function kept(count: number, options: { delay?: number; latency?: number } = {}) {
  const world = new World();
  Object.assign(world, { latency: 20, ...options });
  for (let at = 0; at < count; at++) {
    const tab = await world.open();
    await tab.keep();
    tab.cache.view(tab.list).subscribe(() => {});
  }
  await world.clock.advance("100ms");
  return { world, tabs: world.tabs, advance: (by: string | number) => world.clock.advance(by as never) };
}
export const of = (tabs: Tab[], at: number): Tab => tabs[at] as Tab;
export const shown = (tab: Tab): unknown => tab.cache.view(tab.list).get().value;
export const states = (tab: Tab): string[] => tab.outbox?.list().map(({ state }) => state) ?? [];
export const huts = (world: World): unknown[] => [...world.booked.values()];
/** As the first request of another user does. */
export const onUserChangedIn = (cache: Cache): void => changeUser(coreOf(cache), true);
export const once = (world: World): void => expect(new Set(world.tries).size).toBe(world.booked.size);
