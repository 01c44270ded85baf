import { type Notice, type RunningOrigin, startOrigin } from "@cista/example-origin";
import { createCache, takeSnapshot } from "cista";
import { eventsFrom, origin } from "cista/http";
import { expect, test } from "vitest";
import { inShort, stage } from "./stage.js";

const noticesOf = (base: string) =>
  eventsFrom<void, readonly Notice[]>(origin({ base }), {
    name: "notices",
    url: "/api/notices",
    start: [],
    reduce: (notices, { data }) => [...notices, JSON.parse(data) as Notice],
    retry: { times: Number.POSITIVE_INFINITY, firstPause: 20, longestPause: 20 },
  });

async function until(holds: () => boolean): Promise<void> {
  while (!holds()) await new Promise((resolve) => setTimeout(resolve, 5));
}

test("R5: through a restart of the server no notice is lost, none comes twice", async () => {
  let running: RunningOrigin = await startOrigin();
  const { world, port, url } = running;
  const cache = createCache();
  const notices = noticesOf(url);
  const views = Array.from({ length: 50 }, () => cache.view(notices));
  const leave = views.map((view) => view.subscribe(() => {}));
  const shown = () => views[7]?.get().value?.map(({ id }) => id);
  const all = () => world.notices.map(({ id }) => id);
  await until(() => shown()?.length === 8);
  expect(views[0]?.get()).toMatchObject({ state: "ready", fresh: true, request: "none" });
  world.publish("Spring frozen");
  await until(() => shown()?.length === 9);
  expect(running.tally.of("/api/notices").requests).toBe(1);

  await running.close();
  await until(() => views[0]?.get().failure?.kind === "network");
  world.publish("Said while nobody could hear it", "h-07");
  world.publish("And another");
  running = await startOrigin({ port, world });
  world.publish("Said when it was back");
  await until(() => shown()?.length === 12);
  expect(shown()).toEqual(all());
  expect(views[0]?.get()).toMatchObject({ state: "ready", fresh: true, request: "none" });
  expect(views[0]?.get().failure).toBeUndefined();

  for (const end of leave) end();
  await until(() => running.tally.of("/api/notices").abandoned === 1);
  expect(cache.peek(notices).state).toBe("empty"); // the server said no-store
  cache.dispose();
  await running.close();
});

/** Answers with these texts as one stream, a chunk each; notes what it was asked. */
function streaming(chunks: readonly string[], init: ResponseInit = {}) {
  const asked: (string | null)[] = [];
  const fetch = async (_url: URL, { headers }: RequestInit) => {
    asked.push(new Headers(headers).get("last-event-id"));
    const body = new ReadableStream<Uint8Array>({
      start(controller) {
        for (const chunk of asked.length === 1 ? chunks : []) controller.enqueue(new TextEncoder().encode(chunk));
        if (asked.length === 1) controller.close();
      },
    });
    return new Response(init.status === 204 ? null : body, {
      headers: { "content-type": "text/event-stream" },
      ...init,
    });
  };
  const source = eventsFrom<void, string[]>(origin({ base: "https://huts.example", fetch: fetch as never }), {
    name: "stream",
    url: "/events",
    start: [],
    reduce: (told, { type, data, id }) => [...told, `${type}:${data}${id === undefined ? "" : `#${id}`}`],
  });
  return { asked, source };
}

test("event streams are read by the grammar of WHATWG HTML §9.2", async () => {
  const { cache, clock } = stage();
  const { asked, source } = streaming([
    "\uFEFF: hello\r\nevent: notice\r\ndata: one\r\ndata: and a half\r\nid: 7\r\n\r\n",
    "retry: 400\rdata: tw",
    "o\r\rid: 9\ndata:three\n\nretry: soon\n\ndata: never finished\n",
  ]);
  const view = cache.view(source);
  view.subscribe(() => {});
  await clock.advance(0);
  expect(view.get()).toMatchObject({
    state: "ready",
    value: ["notice:one\nand a half#7", "message:two", "message:three#9"],
    failure: { kind: "network", retryAfter: 400 },
    request: "waiting",
  });
  await clock.advance(399);
  expect(asked).toEqual([null]);
  await clock.advance(1);
  expect(asked).toEqual([null, "9"]);
  expect(inShort(view.get())).toMatch(/^ready .*three#9"\]$/);
});

test("R5: 204 ends an event stream; another status or media type fails for good", async () => {
  const shownAfter = async (init: ResponseInit) => {
    const { cache, clock } = stage();
    const { source, asked } = streaming([], init);
    const view = cache.view(source);
    view.subscribe(() => {});
    await clock.advance(3_600_000);
    return [inShort(view.get()), asked.length];
  };
  expect(await shownAfter({ status: 204 })).toEqual(["ready [] stale", 1]);
  expect(await shownAfter({ status: 503 })).toEqual(["failed (http)", 1]);
  expect(await shownAfter({ headers: { "content-type": "text/html" } })).toEqual(["failed (shape)", 1]);

  const here = stage();
  const { source } = streaming(["id: 4\ndata: a\n\n"]);
  here.cache.view(source).subscribe(() => {});
  await here.clock.advance(0);
  const there = stage({ snapshot: JSON.parse(JSON.stringify(takeSnapshot(here.cache))) });
  const again = streaming(["id: 5\ndata: b\n\n"]);
  const view = there.cache.view(again.source);
  view.subscribe(() => {});
  void view.revalidate();
  await there.clock.advance(0);
  expect(again.asked).toEqual(["4"]);
  expect(view.get().value).toEqual(["message:a#4", "message:b#5"]);
});
