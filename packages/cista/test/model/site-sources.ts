import type { Failure } from "cista";
import { path } from "cista/http";
import type { server } from "../hostile-server.js";
import type { Site } from "./site.js";

// What the pages of the site ask for and send (see site.ts): each page defines it anew, by its own copy of the library.

/** The input of a write: a number for the list, and who adds it. */
export interface Added {
  readonly n: number;
  readonly by: string;
}

/** A composite may be made of a leaf that is not there. */
function orNone(failure: Failure): number {
  if (failure.kind !== "missing") throw failure;
  return 0;
}

/** @param ask sends a write of its own, past the origin's `fetch` */
export function definitionsOf(site: Site, api: ReturnType<typeof server>["api"], ask: unknown) {
  const { settings } = site;
  const { composite, graphqlFrom, graphqlTo, pagesFrom, writeTo } = site.library;
  const retry = { times: 2, firstPause: "500ms" } as const;
  const leaf = api.source<number, { id: number; version: number }>({
    name: "leaf",
    url: (id) => path`/leaf/${id}`,
    retry,
  });
  // Not stored, so that a request for it leaves at once.
  const own = api.source<number, unknown>({ name: "own", url: (n) => path`/own/${n}`, noStore: true, retry });
  const items = api.source({ name: "items", url: "/items", unwrap: (body: { items: number[] }) => body.items, retry });
  const me = api.source({ name: "me", url: "/me", unwrap: (body: { person: string; note: number }) => body, retry });
  const rows = pagesFrom<void, number>(api, {
    name: "rows",
    url: "/rows/0",
    unwrap: (body) => body.rows,
    next: (body) => body.next,
    id: (n) => n,
    retry,
  });
  const said = graphqlFrom<void, number[]>(api, {
    name: "said",
    url: "/graphql",
    document: "query { said }",
    unwrap: ({ said }) => said,
    retry,
  });
  const pair = composite({
    name: "pair",
    load: async (id: number, { read }) => {
      const version = (of: number) => read(leaf, of).then((one) => one.version, orNone);
      const [one, other] = await Promise.all([version(id), version((id + 1) % 3)]);
      return one * 1000 + other;
    },
  });
  const head = composite({
    name: "head",
    params: false,
    load: async (_, { read }) => (await read(rows)).items[0] ?? 0,
  });
  const top = composite({
    name: "top",
    load: async (id: number, { read }) => {
      const made = await read(pair, id);
      const [list, own] = await Promise.all([read(items), read(me)]);
      return { pair: made, count: list.length, person: own.person };
    },
  });
  const add = writeTo<Added, unknown>(api, {
    name: "add",
    url: "/items",
    method: "POST",
    kept: settings.kept,
    idempotencyKey: true,
    ...(site.random(2) ? { sendBy: () => ask as never } : {}),
    retry: { times: 3, firstPause: "500ms" },
    onSuccess(_, { by }, cache) {
      if (site.isCompared) cache.put(me, undefined, { person: by, note: site.notes.get(by) ?? 1 });
    },
    optimistic: ({ n }, edit) => {
      edit.at(items).patch((list) => (list.includes(n) ? list : [...list, n]));
      edit
        .at(rows)
        .patch((list) =>
          list.hasNext || list.items.includes(n) ? list : { ...list, items: [...list.items, n], count: list.count + 1 },
        );
    },
  });
  // Half of them show nothing at once.
  const say = graphqlTo<Added, number>(api, {
    name: "say",
    url: "/graphql",
    document: "mutation ($n: Int!) { say(n: $n) }",
    kept: settings.kept,
    idempotencyKey: true,
    retry: { times: 2, firstPause: "500ms" },
    invalidates: () => said,
    optimistic: ({ n }, edit) => {
      if (n % 2) edit.at(said).patch((list) => (list.includes(n) ? list : [...list, n]));
    },
  });
  // The server tells of it by the address alone (RFC 9111 §4.4).
  const strike = writeTo<number, unknown>(api, {
    name: "strike",
    url: (id) => path`/leaf/${id}`,
    method: "DELETE",
    retry: { times: 2, firstPause: "500ms" },
  });
  // The server tells of it by a group alone (RFC 9875 §3).
  const touch = writeTo<number, unknown>(api, {
    name: "touch",
    url: (id) => path`/touch/${id}`,
    method: "POST",
    retry: { times: 2, firstPause: "500ms" },
    invalidates: (id, result) => (result === undefined ? [{ source: leaf, params: id }] : []),
  });
  return { leaf, own, items, me, rows, said, pair, head, top, writes: { add, say }, strike, touch };
}
