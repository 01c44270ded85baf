import { composite, restoreSnapshot, type Snapshot, type Source, takeSnapshot } from "cista";
import { eventsFrom } from "cista/http";
import { expect, test } from "vitest";
import { json, server } from "../hostile-server.js";
import { joined, of } from "./joined.js";
import type { Tab } from "./tab.js";
import { World } from "./world.js";

test("B2, F9: a tab whose user becomes that of another tab follows the stream that is open there", async () => {
  const world = new World();
  world.delay = 3;
  const streams = new Map<() => void, string>();
  const opened = async (who: { user?: string }) => {
    const tab = await world.open({ join: false });
    const { api } = server(
      async (url, { signal }) => {
        const { user = "nobody" } = who;
        await new Promise<void>((resolve) => void world.clock.setTimer(resolve, 60));
        if (url.pathname !== "/news") return json(user, { "cache-control": "max-age=30" });
        const body = new ReadableStream({
          start(controller) {
            const send = () => controller.enqueue(new TextEncoder().encode("data: fog\n\n"));
            streams.set(send, user);
            signal?.addEventListener("abort", () => void (streams.delete(send) && controller.error(signal.reason)));
          },
        });
        return new Response(body, { headers: { "content-type": "text/event-stream" } });
      },
      { user: () => who.user },
    );
    const news = eventsFrom<void, string[]>(api, {
      name: "news",
      url: "/news",
      start: [],
      reduce: (all, { data }) => [...all, data],
    });
    const me = api.source<void, string>({ name: "me", url: "/me" });
    await tab.join();
    tab.cache.view(news).subscribe(() => {});
    await world.clock.advance("3s");
    return { cache: tab.cache, news, me };
  };
  const one = await opened({ user: "wren" });
  const who: { user?: string } = {};
  const two = await opened(who);
  expect([...streams.values()]).toEqual(["wren", "nobody"]);
  who.user = "wren";
  void two.cache.read(two.me);
  await world.clock.advance("3s");
  expect([...streams.values()]).toEqual(["wren"]);
  for (const send of streams.keys()) send();
  await world.clock.advance("1s");
  expect([one, two].map(({ cache, news }) => cache.peek(news).value)).toEqual([["fog"], ["fog"]]);
});

test("F9, B4: a composite is told to no other tab, also where its load was spared", async () => {
  const world = new World();
  const opened = async (user: string, held?: Snapshot) => {
    const tab = await world.open({ join: false });
    const { api } = server(async () => json(user, { "cache-control": "max-age=30" }), { user: () => user });
    const me = api.source<void, string>({ name: "me", url: "/me" });
    const whole = composite({ name: "whole", params: false, load: async (_, { read }) => `${await read(me)}'s` });
    if (held) restoreSnapshot(tab.cache, held);
    else await tab.cache.read(whole);
    return { ...tab, tab, me, whole };
  };
  const earlier = await opened("wren");
  const held = takeSnapshot(earlier.cache);
  earlier.tab.kill();
  const ada = await opened("ada");
  const wren = await opened("wren", held);
  for (const { tab, cache, whole } of [ada, wren]) {
    await tab.join();
    cache.view(whole).subscribe(() => {});
  }
  wren.cache.invalidate(wren.me);
  await world.clock.advance("3s");
  expect([wren, ada].map(({ cache, whole }) => cache.peek(whole).value)).toEqual(["wren's", "ada's"]);
});

test("B6: a value that was put and stays in its tab is requested by the others", async () => {
  const world = new World();
  const asked: string[] = [];
  let balance = 1;
  const pages: { tab: Tab; me: Source<void, number> }[] = [];
  for (const name of ["one", "other"]) {
    const tab = await world.open();
    const { api } = server(
      () => {
        asked.push(name);
        return json(balance, { "cache-control": "max-age=60" });
      },
      { headers: () => ({ authorization: "ada" }) },
    );
    pages.push({ tab, me: api.source<void, number>({ name: "me", url: "/me" }) });
  }
  for (const { tab, me } of pages) tab.cache.view(me).subscribe(() => {});
  await world.clock.advance("1s");
  balance = 2;
  pages[0]?.tab.cache.put(pages[0].me, undefined, balance);
  await world.clock.advance("1s");
  expect(pages.map(({ tab, me }) => tab.cache.peek(me).value)).toEqual([2, 2]);
  expect(asked).toEqual(["one", "other", "other"]);
});

test("S4: values that a tab told before it knew of a sign-out are forgotten in the others", async () => {
  const { tabs, advance } = await joined(2);
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  one.watch("hut", 1);
  two.watch("hut", 9);
  await advance("1s");
  const leaving = two.cache.signOut(); // this environment has no others: the channel alone tells
  await leaving;
  two.cache.put(two.hut, 5, { id: 5, version: 1 });
  one.cache.put(one.hut, 6, { id: 6, version: 1 });
  await advance("1s");
  await one.cache.signOut();
  await advance("1s");
  expect(two.cache.peek(two.hut, 6).state).not.toBe("ready");
  expect(two.cache.peek(two.hut, 5).state).toBe("ready");
});

test("S4: a value that a newcomer was told by a tab that has signed out since is not shown", async () => {
  const { world, tabs, advance } = await joined(1);
  const one = of(tabs, 0);
  one.watch("hut", 1);
  await advance("1s");
  const late = await world.open();
  await advance("1s");
  await one.cache.signOut();
  world.change(1);
  await advance("1s");
  late.watch("hut", 1);
  await advance("1s");
  expect(late.shown.get("hut 1")).toEqual([2]);
});

test("S4: a value that a tab told before it signed out is not taken by a tab that stood still meanwhile", async () => {
  const { world, tabs, advance } = await joined(2, { latency: 4000 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  for (const tab of tabs) tab.watch("hut", 1);
  await advance(10);
  expect(world.underWay.get(1)).toBe(1);
  two.stop(); // it waits for the answer of the other
  await advance("5s");
  await one.cache.signOut();
  world.change(1);
  await advance("1s");
  two.goOn();
  await advance("5s");
  expect(two.shown.get("hut 1")).toEqual([2]);
});

type Named = "a user" | "a token" | "a cookie";

/** A tab for each of these users. @param status what ada is answered by */
async function paid(users: readonly string[], status: number, named: Named = "a user") {
  const world = new World();
  const pause = (length: number) =>
    new Promise<Record<string, string>>((resolve) => void world.clock.setTimer(() => resolve({}), length));
  const asked: string[] = [];
  const pages = [];
  for (const user of users) {
    const tab = await world.open();
    const page = {
      user,
      watch: () => tab.cache.view(wages).subscribe(() => {}),
      shown: () => tab.cache.peek(wages),
    };
    const { api } = server(
      async () => {
        const asks = page.user;
        asked.push(asks);
        await pause(60);
        return json(asks, { "cache-control": "max-age=30" }, asks === "ada" ? status : 200);
      },
      {
        ...(named === "a user" ? { user: () => page.user, headers: () => pause(20) } : {}),
        ...(named === "a token" ? { headers: () => ({ authorization: page.user }) } : {}),
      },
    );
    const wages = api.source<void, string>({ name: "wages", url: "/wages", retry: false });
    pages.push(page);
  }
  return { asked, pages, advance: (by: Parameters<typeof world.clock.advance>[0]) => world.clock.advance(by) };
}

const refusals: [status: number, later: number, named: Named][] = [
  [403, 100, "a user"],
  [403, 5, "a user"],
  [422, 100, "a cookie"],
  [503, 100, "a user"],
  [503, 5, "a user"],
  [503, 100, "a token"],
  [503, 5, "a token"],
];

test.each(refusals)(
  "F9, B2: what one tab's user is answered by %i is not told to another's, %i ms later, each with %s",
  async (status, later, named) => {
    const { asked, pages, advance } = await paid(["ada", "bob"], status, named);
    pages[0]?.watch();
    await advance(later);
    pages[1]?.watch();
    await advance(named === "a token" ? 300 : 1000); // under a token no tab waits for another's lock
    expect(pages[1]?.shown()).toMatchObject({ state: "ready", value: "bob" });
    expect(pages[0]?.shown()).toMatchObject({ state: "failed", failure: { status } });
    expect(asked).toEqual(["ada", "bob"]);
  },
);

test("F9, B2: a failure is not told for the user who was in the tab before the request was made", async () => {
  const { asked, pages, advance } = await paid(["bob", "bob"], 503);
  for (const { watch } of pages) watch();
  await advance(10);
  Object.assign(pages[0] as object, { user: "ada" }); // the headers are still being made
  await advance("1s");
  expect(pages.map(({ shown }) => shown().state)).toEqual(["failed", "ready"]);
  expect(asked).toEqual(["ada", "bob"]);
});

test("B2: what a named user is answered by 503 counts in the other tabs of that user, and in no other", async () => {
  const { asked, pages, advance } = await paid(["ada", "bob", "ada", "bob"], 503);
  for (const { watch } of pages) watch();
  await advance("1s");
  expect(pages.map(({ shown }) => shown().state)).toEqual(["failed", "ready", "failed", "ready"]);
  expect(asked).toEqual(["ada", "bob"]);
});
