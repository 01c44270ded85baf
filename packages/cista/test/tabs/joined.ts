import type { Tab } from "./tab.js";
import { World } from "./world.js";

/** So many joined tabs of a world. */
export async function joined(count: number, options: { delay?: number; latency?: number } = {}) {
  const world = new World();
  Object.assign(world, options);
  for (let at = 0; at < count; at++) await world.open();
  await world.clock.advance("100ms");
  return { world, tabs: world.tabs, advance: (by: string | number) => world.clock.advance(by as never) };
}
export const of = (tabs: Tab[], at: number): Tab => tabs[at] as Tab;
/** The version of a hut that each tab holds. */
export const versions = (tabs: Tab[], id: number) => tabs.map((tab) => tab.cache.peek(tab.hut, id).value?.version);
