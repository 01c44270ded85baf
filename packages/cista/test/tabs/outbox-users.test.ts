import { write } from "cista";
import type { KeptRecord } from "cista/browser";
import { writeTo } from "cista/http";
import { expect, test, vi } from "vitest";
import { json, server } from "../hostile-server.js";
import { huts, kept, of, onUserChangedIn, shown, states } from "./kept.js";

// Kept writes and the people who run them: sign-outs, and other users. Rules O6, O9.

test("O6: sign-out clears the outbox and aborts its sending; nothing of it is sent for the next user", async () => {
  const { world, tabs, advance } = await kept(2, { delay: 5 });
  const [one, two] = [of(tabs, 0), of(tabs, 1)];
  for (const tab of tabs) tab.environment.set({ online: false });
  const run = one.cache.run(one.book, { hut: 7 });
  run.catch(() => {});
  await advance("100ms");
  await Promise.all([one.cache.signOut(), advance("10ms")]);
  await Promise.all([two.cache.signOut(), advance("10ms")]); // as the page's environment tells it
  await expect(run).rejects.toMatchObject({ kind: "aborted" });
  for (const tab of tabs) tab.environment.set({ online: true });
  await advance("1s");
  expect(world.tries).toEqual([]);
  for (const tab of tabs) expect(states(tab)).toEqual([]);
  expect(world.records.size).toBe(0);
});

test("O6: kept writes survive where the count of sign-outs was lost", async () => {
  const { world, tabs, advance } = await kept(1);
  const one = of(tabs, 0);
  one.environment.set({ online: false });
  void one.cache.run(one.book, { hut: 3 }).catch(() => {});
  await advance("10ms");
  one.kill();
  const [record] = world.records.values();
  const stored = (era: number, id: string, hut: number) => ({ ...(record as KeptRecord), era, id, input: { hut } });
  world.records.clear();
  for (const each of [stored(2, "left by a sign-out", 4), stored(3, "kept since", 5)]) world.records.set(each.id, each);
  const next = await world.open();
  await next.keep();
  await advance("3s");
  expect(huts(world)).toEqual([5]);
  expect(world.records.size).toBe(0);
});

test("O6: a write of the next user in another tab is not aborted by the sign-out that is heard after it", async () => {
  const eras = new Map<string, string>();
  vi.stubGlobal("localStorage", {
    getItem: (name: string) => eras.get(name) ?? null,
    setItem: (name: string, value: string) => eras.set(name, value),
  });
  const { world, tabs, advance } = await kept(2);
  for (const tab of tabs) tab.environment.set({ online: false });
  void of(tabs, 0)
    .cache.run(of(tabs, 0).book, { hut: 1 })
    .catch(() => {});
  await advance("10ms");
  void of(tabs, 0).cache.signOut();
  await advance("10ms");
  void of(tabs, 0)
    .cache.run(of(tabs, 0).book, { hut: 2 })
    .catch(() => {});
  await advance("10ms");
  void of(tabs, 1).cache.signOut(); // as its environment has it do
  await advance("10ms");
  for (const tab of tabs) tab.environment.set({ online: true });
  await advance("3s");
  vi.unstubAllGlobals();
  expect(huts(world)).toEqual([2]);
});

test("O9: a kept write is shown and sent only while the user who ran it asks", async () => {
  const { world, tabs, advance } = await kept(1);
  const one = of(tabs, 0);
  let user: string | undefined = "ada";
  const book = write<{ hut: number }, string>({ ...one.book.definition, user: () => user });
  one.outbox?.close();
  await one.keep({ writes: [book] });
  one.environment.set({ online: false });
  void one.cache.run(book, { hut: 1 }).catch(() => {});
  await advance("10ms");
  user = "bob";
  void one.cache.run(book, { hut: 2 }).catch(() => {});
  onUserChangedIn(one.cache);
  await advance("10ms");
  expect([states(one), shown(one)]).toEqual([["other-user", "waiting"], [2]]);
  one.environment.set({ online: true });
  await advance("3s");
  expect([huts(world), states(one)]).toEqual([[2], ["other-user"]]);
  user = "ada";
  onUserChangedIn(one.cache);
  await advance("3s");
  expect([huts(world), states(one), world.records.size]).toEqual([[2, 1], [], 0]);
});

test.each([
  ["the next user", []],
  ["the user before, who is back", ["ada"]],
])("O9: a kept write of a user who has requested nothing yet is not shown to %s", async (_, before) => {
  const { tabs, advance } = await kept(1);
  const one = of(tabs, 0);
  let user = "ada";
  const { api } = server(() => json([]), { user: () => user });
  const rows = api.source<void, number[]>({ name: "rows", url: "/rows" });
  const add = writeTo<number, void>(api, {
    name: "add",
    method: "POST",
    url: "/rows",
    kept: true,
    idempotencyKey: true,
    optimistic: (row, edit) => edit.at(rows).patch((all) => [...all, row]),
  });
  one.outbox?.close();
  await one.keep({ writes: [add] });
  if (before.length > 0) void one.cache.read(rows);
  await advance("1s");
  one.environment.set({ online: false });
  user = "bob";
  void one.cache.run(add, 1).catch(() => {});
  await advance("10ms");
  user = before[0] ?? "wren";
  one.environment.set({ online: true });
  one.cache.view(rows).subscribe(() => {});
  void one.cache.read(rows, undefined, { cache: "no-cache" });
  await advance("1s");
  expect([one.cache.peek(rows).value, states(one)]).toEqual([[], ["other-user"]]);
});
