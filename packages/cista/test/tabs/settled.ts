import type { Tab } from "./tab.js";
import type { World } from "./world.js";

// What holds of joined tabs when all is well, whatever has happened before: one request for all, one stream, one invalidation.

const added = ["gauge", "count"] as const;

/** Asks of tabs that all run what they promise then. @returns what is wrong, in words */
export async function faultsAtRest(world: World): Promise<string[]> {
  const faults: string[] = [];
  const check = (isSo: boolean, what: string) => void (isSo || faults.push(what));
  const { clock } = world;
  world.latency = Math.max(60, world.latency);
  world.capacity = 20_000;
  const late = await world.open();
  while (world.alive.length < 3) await world.open();
  const tabs = () => world.alive;
  const countOf = (id: number) => world.requests.filter((each) => each.endsWith(`:${id}`)).length;
  /** All watch it, one soon after the other. */
  const allWatch = async (name: Parameters<Tab["watch"]>[0], id: number) => {
    for (const tab of tabs()) {
      tab.watch(name, id);
      await clock.advance(world.random(100));
    }
    await clock.advance("10s");
  };
  const shows = (tab: Tab, key: string) => tab.shown.get(key)?.at(-1);

  // Rules B1, B2: one request for all.
  await allWatch("hut", 7);
  check(countOf(7) === 1, `hut 7 was requested ${countOf(7)} times for all`);
  for (const tab of tabs()) check(shows(tab, "hut 7") === 1, "a tab shows no hut 7");

  // Rule B5: a tab that comes later is told.
  const newcomer = await world.open();
  await clock.advance(100); // it has heard by then, however long a message takes
  newcomer.watch("hut", 7);
  await clock.advance("2s");
  check(countOf(7) === 1 && shows(newcomer, "hut 7") === 1, "a newcomer requests what it was told of");

  // Rule B3: an invalidation in one tab, and in one that has just gone on, is one request for all.
  for (const isFrozen of [false, true]) {
    const before = countOf(7);
    if (isFrozen) {
      newcomer.freeze();
      await clock.advance("1s");
      newcomer.goOn();
    }
    const version = world.change(7);
    newcomer.cache.invalidate({ source: newcomer.hut, params: 7 });
    await clock.advance("10s");
    check(countOf(7) === before + 1, `${countOf(7) - before} requests for one invalidation`);
    for (const tab of tabs()) check(shows(tab, "hut 7") === version, "a tab has not heard of an invalidation");
  }

  // Rule B3: what was invalidated before a tab came is requested by it once.
  late.cache.invalidate({ source: late.hut, params: 10 });
  await clock.advance(500);
  const young = world.tab();
  young.startJoining();
  young.watch("hut", 10);
  await clock.advance("5s");
  check(countOf(10) === 1, `a newcomer requested ${countOf(10)} times what was invalidated before it came`);

  // Rule B2: one that has ended is not opened again, one that is open is followed.
  for (const name of added) {
    const before =
      name === "count" ? world.requests.filter((each) => each.endsWith(":count")).length : world.openedStreams;
    const opened = () =>
      (name === "count" ? world.requests.filter((each) => each.endsWith(":count")).length : world.openedStreams) -
      before;
    const isOpen = world.tabs.some((tab) => tab.shown.has(name)); // then a tab may have its last value, and another not
    await allWatch(name, 0);
    if (!isOpen) check(opened() === 1, `the stream ${name} was opened ${opened()} times for all`);
  }
  const follow = async (what: string) => {
    world.event++;
    await clock.advance("2s");
    const wrong = tabs().filter((tab) => shows(tab, "gauge") !== world.event).length;
    check(wrong === 0, `${wrong} tabs do not show the last event ${what}`);
  };
  for (const tab of tabs()) check(shows(tab, "count") === 3, "a tab does not show the end of a stream");
  await follow("of one stream for all");
  late.cache.invalidate({ source: late.gauge });
  await clock.advance("5s");
  await follow("after an invalidation");
  const [leader] = [...world.streams].map((end) => (end as { tab?: Tab }).tab);
  if (leader && tabs().length > 2) {
    leader.kill();
    await clock.advance("10s");
    await follow("after its tab was killed");
  }

  // Rule B2: who waits for a tab that hangs takes its place; what that has at last is dropped.
  const [hung, heir] = tabs();
  if (hung && heir) {
    hung.watch("hut", 9);
    await clock.advance(30);
    hung.stop();
    heir.watch("hut", 9);
    await clock.advance("8s");
    check(shows(heir, "hut 9") === 1, "a tab waits for one that hangs");
    const version = world.change(9);
    heir.cache.invalidate({ source: heir.hut, params: 9 });
    await clock.advance("8s");
    hung.goOn();
    await clock.advance("5s");
    for (const tab of [hung, heir]) check(shows(tab, "hut 9") === version, "what a hung tab had is shown again");
  }

  // Rule B7: a tab of another program is told nothing, also not of a fresh entry.
  tabs()[0]?.watch("hut", 11);
  await clock.advance("1s");
  const stranger = await world.open({ version: "2" });
  stranger.watch("hut", 11);
  await clock.advance("5s");
  check(countOf(11) === 2, "a tab of another program was told of an entry");
  stranger.kill();

  // Rule B6: what is each tab's own is told to nobody, and keeps nobody waiting.
  for (const name of ["secret", "strange"] as const) {
    const before = countOf(8);
    for (const tab of tabs()) tab.watch(name, 8);
    // Of what is not to be stored every tab knows at once. What cannot be cloned turns out to be so after one answer.
    await clock.advance(name === "secret" ? world.latency + 100 : world.latency + 2000);
    check(
      countOf(8) === before + tabs().length,
      `${name} was requested ${countOf(8) - before} times by ${tabs().length} tabs`,
    );
    for (const tab of tabs()) check(shows(tab, `${name} 8`) === 1, `a tab shows no ${name}`);
  }
  return faults;
}
