import { type Note, type RunningOrigin, startOrigin } from "@cista/example-origin";
import { entriesOf, type Source, takeSnapshot } from "cista";
import { appendPage, origin, type Pages, pagesFrom, writeTo } from "cista/http";
import fc from "fast-check";
import { afterAll, beforeAll, beforeEach, expect, test } from "vitest";
import { server as fakeServer, json } from "./hostile-server.js";
import { stage, stageWithServer, watch } from "./stage.js";

let running: RunningOrigin;
beforeAll(async () => {
  running = await startOrigin();
});
afterAll(() => running.close());
beforeEach(() => running.reset());

const hut = "h-16"; // 198 notes
const path = `/api/huts/${hut}/logbook`;
const ofHut = () => running.world.huts.get(hut) as NonNullable<ReturnType<typeof running.world.huts.get>>;
const logbookOf = () =>
  pagesFrom<{ id: string }, Note>(origin({ base: running.url }), {
    name: "logbook",
    url: ({ id }) => `/api/huts/${id}/logbook`,
    retry: false,
  });

/** A list with so many of its parts loaded, watched. */
async function loaded(parts: number) {
  const { cache, clock, events } = stageWithServer();
  const logbook = logbookOf();
  const { view, seen } = watch(cache, logbook, { id: hut });
  await cache.read(logbook, { id: hut });
  for (let part = 1; part < parts; part++) await appendPage(cache, logbook, { id: hut });
  const list = () => view.get().value as Pages<Note>;
  const requests = () => running.tally.of(path).requests;
  return { cache, clock, events, logbook, view, seen, list, requests };
}

test("five pages loaded and one note added above: one request, no duplicate, no gap", async () => {
  const { list, view, requests } = await loaded(5);
  expect(list()).toMatchObject({ count: 100, hasNext: true });
  expect(list().items).toEqual(running.world.notes(ofHut()).slice(0, 100));
  expect(requests()).toBe(5);
  const before = list();

  await view.revalidate();
  expect(list()).toBe(before); // a 304 for the first part: nothing else is asked for
  expect([requests(), running.tally.of(path).notModified]).toEqual([6, 1]);

  running.world.write(ofHut(), "Wren", "Bridge is back.");
  await view.revalidate();
  expect(list().items).toEqual(running.world.notes(ofHut()).slice(0, 101));
  expect(list().items[50]).toBe(before.items[49]); // moved, and the same object
  expect(requests()).toBe(7);
});

test("R1: the next page is joined while under way; an error leaves the list as it was", async () => {
  const { cache, clock, logbook, list, requests } = await loaded(1);
  await Promise.all([appendPage(cache, logbook, { id: hut }), appendPage(cache, logbook, { id: hut })]);
  expect([list().count, requests()]).toEqual([40, 2]);

  running.faults.set({ path, status: 503 });
  await expect(appendPage(cache, logbook, { id: hut })).rejects.toMatchObject({ kind: "http", status: 503 });
  expect(list().count).toBe(40);
  running.faults.clear();

  while (list().hasNext) await appendPage(cache, logbook, { id: hut });
  expect(list().items).toEqual(running.world.notes(ofHut()));
  const asked = requests();
  await appendPage(cache, logbook, { id: hut });
  await appendPage(cache, logbook, { id: "h-08" }); // not loaded: there is nothing to go on behind
  expect(requests()).toBe(asked);
  await clock.advance(0);
  expect([...entriesOf(cache)].map(({ source }) => source)).not.toContain("logbook.part");
});

test("appended while the list is being asked about: its answer first, then the part behind it", async () => {
  const { cache, logbook, list, view } = await loaded(2);
  running.world.write(ofHut(), "Osk", "Fog again.");
  running.faults.set({ path, latency: 20, outOfOrder: true });
  await Promise.all([view.revalidate(), appendPage(cache, logbook, { id: hut })]);
  expect(list().items).toEqual(running.world.notes(ofHut()).slice(0, 61));
});

test("another hut's list is a list of its own; a missing one is missing", async () => {
  const { cache, logbook, list } = await loaded(3);
  await cache.read(logbook, { id: "h-08" });
  expect([list().count, (cache.peek(logbook, { id: "h-08" }) as any).value.count]).toEqual([60, 20]);
  await expect(cache.read(logbook, { id: "h-99" })).rejects.toMatchObject({ kind: "missing" });
});

// ── Against a list of any kind ───────────────────────────────────────────────

/** A server with a list in parts of `size`, by a page number or by the last item's id. */
function server(items: { id: number; text?: string }[], size: number, by: "number" | "cursor") {
  const asked: string[] = [];
  const fetch = async (url: URL) => {
    asked.push(url.search);
    const cursor = url.searchParams.get("after");
    const page = Number(url.searchParams.get("page") ?? 0);
    const from = by === "number" ? page * size : items.findIndex(({ id }) => String(id) === cursor) + 1;
    const part = items.slice(from, from + size).map((item) => ({ ...item }));
    const more = from + size < items.length;
    const next = by === "number" ? `?page=${page + 1}` : `?after=${part.at(-1)?.id}`;
    return Response.json({ part, ...(more ? { next } : {}) });
  };
  const list = pagesFrom<void, { id: number }>(origin({ base: "https://huts.example/notes", fetch: fetch as never }), {
    name: "notes",
    url: "/notes",
    unwrap: (body) => body.part,
    next: (body) => body.next,
  });
  return { items, asked, list };
}

const change = fc.oneof(
  fc.record({ kind: fc.constant("add"), at: fc.nat(12) }),
  fc.record({ kind: fc.constant("remove"), at: fc.nat(12) }),
  fc.record({ kind: fc.constant("raise"), at: fc.nat(12) }),
  fc.record({ kind: fc.constant("append"), at: fc.constant(0) }),
);

test("no item is shown twice or lost, whatever moves between two looks (property)", async () => {
  await fc.assert(
    fc.asyncProperty(
      fc.array(change, { minLength: 1, maxLength: 8 }),
      fc.integer({ min: 1, max: 4 }),
      fc.constantFrom("number" as const, "cursor" as const),
      async (changes, size, by) => {
        let id = 100;
        const { items, list } = server(
          Array.from({ length: 12 }, (_, index) => ({ id: index })),
          size,
          by,
        );
        const { cache } = stageWithServer();
        const view = cache.view(list as Source<any, Pages<{ id: number }>>);
        view.subscribe(() => {});
        const shown = () => (view.get().value?.items ?? []).map((item) => item.id);
        await cache.read(list);
        for (const { kind, at } of changes) {
          if (kind === "append") await appendPage(cache, list);
          else {
            // What is removed behind the first part is found out only when that changes too.
            const gone = kind === "add" ? [] : items.splice(at % (kind === "remove" ? size : items.length), 1);
            if (kind === "add") items.unshift({ id: id++ });
            if (kind === "raise") items.unshift(...gone);
            await view.revalidate();
          }
          expect(shown()).toEqual(items.map((item) => item.id).slice(0, shown().length));
          expect(shown().length).toBeGreaterThanOrEqual(Math.min(size, items.length));
        }
        cache.dispose();
      },
    ),
    { numRuns: 300 },
  );
});

test("a server that leads in circles, to another origin, or to something else than a list", async () => {
  const { cache } = stageWithServer();
  const answering = (body: unknown, headers: Record<string, string> = {}) =>
    pagesFrom<void, unknown>(
      origin({ base: "https://huts.example", fetch: async () => Response.json(body, { headers }) }),
      {
        name: `list-${Math.random()}`,
        url: "/notes",
        retry: false,
      },
    );
  const circle = answering([{ id: 1 }], { link: '</notes>; rel="next"' });
  await cache.read(circle);
  await appendPage(cache, circle);
  expect((cache.peek(circle) as any).value).toMatchObject({ count: 1, hasNext: false });
  await expect(cache.read(answering([], { link: '<https://far.example/n>; rel="next"' }))).rejects.toMatchObject({
    kind: "shape",
    message: expect.stringContaining("another origin, https://far.example"),
  });
  await expect(cache.read(answering({ notes: [] }))).rejects.toMatchObject({ kind: "shape" });
  const plain = origin({ base: "https://huts.example" }).source<void, never>({ name: "hut", url: "/hut" });
  await expect(appendPage(cache, plain)).rejects.toMatchObject({ code: "not-a-list" });
});

/** A list of so many rows, in pages of twenty, by a server of the test's own. */
function rowsServer(count: number, perPage = 20) {
  const world = { rows: Array.from({ length: count }, (_, id) => ({ id, version: 1 })) };
  const { api, seen } = fakeServer((url) => {
    const page = Number(url.searchParams.get("page") ?? 0);
    const next = (page + 1) * perPage < world.rows.length ? `/rows?page=${page + 1}` : undefined;
    return json({ rows: world.rows.slice(page * perPage, (page + 1) * perPage), next });
  });
  const rows = pagesFrom<void, { id: number; version: number }>(api, {
    name: "rows",
    url: "/rows",
    retry: false,
    unwrap: (body) => body.rows,
    next: (body) => body.next,
  });
  return { world, seen, rows, ...stage() };
}

test("W3: a row that a write deletes on a later page does not come back, with validators and without", async () => {
  for (const isTagged of [false, true]) {
    let rows = Array.from({ length: 9 }, (_, id) => ({ id }));
    const { api, seen } = fakeServer((url, { method }) => {
      if (method === "DELETE") rows = rows.filter(({ id }) => id !== 5);
      if (method === "DELETE") return new Response(null, { status: 204 });
      const page = Number(url.searchParams.get("page") ?? 0);
      const own = rows.slice(2 * page, 2 * page + 2);
      return json(
        { rows: own, next: `/rows?page=${page + 1}` },
        isTagged ? { etag: `"${own.map(({ id }) => id)}"` } : {},
      );
    });
    const list = pagesFrom<void, { id: number }>(api, {
      name: "rows",
      url: "/rows",
      unwrap: (body) => body.rows,
      next: (body) => body.next,
    });
    const remove = writeTo<void, void>(api, {
      name: "remove",
      method: "DELETE",
      url: "/rows/5",
      invalidates: () => list,
    });
    const { cache, clock } = stage();
    const { view } = watch(cache, list);
    for (let page = 0; page < 3; page++) await (page ? appendPage(cache, list) : clock.advance(0));
    const asked = seen.length;
    await cache.run(remove);
    await clock.advance(0);
    expect((view.get().value as Pages<{ id: number }>).items.map(({ id }) => id)).toEqual([0, 1, 2, 3, 4, 6]);
    expect(seen.length).toBe(asked + 1 + 3);
    cache.dispose();
  }
});

test("R2: a page that was asked for before the list moved is asked for anew", async () => {
  const rows = Array.from({ length: 6 }, (_, id) => ({ id }));
  const held: (() => void)[] = [];
  const { api, seen } = fakeServer(async (url) => {
    const page = Number(url.searchParams.get("page") ?? 0);
    const answer = json({ rows: rows.slice(page, page + 1), next: `/rows?page=${page + 1}` });
    if (page === 1 && held.length === 0) await new Promise<void>((resolve) => held.push(resolve));
    return answer;
  });
  const list = pagesFrom<void, { id: number }>(api, {
    name: "rows",
    url: "/rows",
    unwrap: (body) => body.rows,
    next: (body) => body.next,
  });
  const { cache, clock } = stage();
  await cache.read(list);
  const appended = appendPage(cache, list);
  await clock.advance("1s");
  rows.unshift({ id: -1 });
  await cache.read(list, undefined, { cache: "no-cache" });
  held[0]?.();
  await appended;
  expect(cache.peek(list).value?.items.map(({ id }) => id)).toEqual([-1, 0]);
  expect(seen).toHaveLength(4);
});

test("an item that a program has put into a list stays when the next page comes, and over a restore", async () => {
  const { cache, rows, world } = rowsServer(45);
  await cache.read(rows);
  cache.at(rows).patch((pages) => ({ ...pages, items: [{ id: -1, version: 1 }, ...pages.items] }));
  await appendPage(cache, rows);
  const ids = () => cache.peek(rows).value?.items.map(({ id }) => id);
  expect(ids()).toEqual([-1, ...world.rows.slice(0, 40).map(({ id }) => id)]);
  cache.at(rows).patch((pages) => ({ ...pages, items: pages.items.filter(({ id }) => id !== 39) }));
  await appendPage(cache, rows);
  expect(ids()).toEqual([-1, ...world.rows.map(({ id }) => id).filter((id) => id !== 39)]);
  const { cache: restored } = stage({ snapshot: JSON.parse(JSON.stringify(takeSnapshot(cache))) });
  expect(restored.peek(rows).value?.items).toHaveLength(45);
});

test("an item that came and went makes the list no longer than the pages that were loaded", async () => {
  const { cache, rows, world, seen } = rowsServer(45, 12);
  await cache.read(rows);
  world.rows.unshift({ id: 100, version: 1 });
  await cache.read(rows, undefined, { cache: "no-cache" });
  world.rows.shift();
  await cache.read(rows, undefined, { cache: "no-cache" });
  expect([cache.peek(rows).value?.count, seen.length]).toEqual([12, 3]);
});

test("ids are looked at once an item, however many pages there are, appended or all of them changed", async () => {
  const count = async (items: number) => {
    const { cache, world } = rowsServer(items);
    const { api } = fakeServer((url) => {
      const page = Number(url.searchParams.get("page") ?? 0);
      const next = (page + 1) * 20 < world.rows.length ? `/rows?page=${page + 1}` : undefined;
      return json({ rows: world.rows.slice(page * 20, (page + 1) * 20), next });
    });
    let ids = 0;
    const rows = pagesFrom<void, any>(api, {
      name: "rows",
      url: "/rows",
      retry: false,
      requestBudget: false,
      unwrap: (body) => body.rows,
      next: (body) => body.next,
      id: (item) => {
        ids++;
        return item.id;
      },
    });
    await cache.read(rows);
    while (cache.peek(rows).value?.hasNext) await appendPage(cache, rows);
    const appendedBy = ids;
    for (const row of world.rows) row.id = -1 - row.id;
    await cache.read(rows, undefined, { cache: "no-cache" });
    expect(cache.peek(rows).value?.items.map((item: any) => item.id)).toEqual(world.rows.map(({ id }) => id));
    return [appendedBy, ids - appendedBy] as const;
  };
  const [few, many] = [await count(400), await count(4000)];
  for (const at of [0, 1] as const) expect(many[at]).toBeLessThan(few[at] * 12);
});

test("F9: a list for all users with a page that is one user's is shown to no other", async () => {
  const at = { token: "ada" };
  const { api } = fakeServer(
    ({ pathname }, { headers }) =>
      pathname === "/list"
        ? json(["all"], { "cache-control": "public, max-age=60", link: '</list/2>; rel="next"' })
        : json([headers.get("authorization")], { "cache-control": "private, max-age=60" }),
    { headers: () => ({ authorization: at.token }) },
  );
  const list = pagesFrom<void, string>(api, { name: "list", url: "/list" });
  const { cache } = stage();
  await cache.read(list);
  await appendPage(cache, list);
  expect(cache.peek(list).value?.items).toEqual(["all", "ada"]);
  at.token = "bob";
  expect(cache.peek(list).value).toBeUndefined();
});
