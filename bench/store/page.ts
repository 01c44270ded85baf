import { createCache, source } from "cista";
import { openStore } from "cista/browser";

const count = 1000;
const hut = source({ name: "hut", maxAge: "1h", load: async (id: number): Promise<unknown> => ({ id }) });

function hutNumber(id: number, round: number) {
  const place = { lat: 46.5 + id / 1e4, lon: 9.8 + id / 1e4 };
  const notes = [`Round ${round}: the spring behind the hut runs again.`, "Bring wood up from the last bend."];
  return { id: `h-${id}`, name: `Hut ${id}`, altitude: 1800 + id, bunks: id % 40, place, notes, water: round };
}

// ── As little as it takes, in one transaction ──

function opened(name: string): Promise<IDBDatabase> {
  return new Promise((resolve, reject) => {
    const request = indexedDB.open(name);
    request.onupgradeneeded = () => request.result.createObjectStore("huts");
    request.onsuccess = () => resolve(request.result);
    request.onerror = () => reject(request.error);
  });
}

function written(database: IDBDatabase, round: number): Promise<void> {
  return new Promise((resolve, reject) => {
    const write = database.transaction("huts", "readwrite");
    const store = write.objectStore("huts");
    for (let id = 0; id < count; id++) store.put(hutNumber(id, round), `hut ${id}`);
    write.oncomplete = () => resolve();
    write.onerror = () => reject(write.error);
  });
}

function readAll(database: IDBDatabase): Promise<unknown[]> {
  return new Promise((resolve, reject) => {
    const all = database.transaction("huts").objectStore("huts").getAll();
    all.onsuccess = () => resolve(all.result);
    all.onerror = () => reject(all.error);
  });
}

// ── The two in turns ──

const median = (list: number[]) => [...list].sort((one, other) => one - other)[list.length >> 1] as number;

async function timed(work: () => Promise<unknown>): Promise<number> {
  const start = performance.now();
  await work();
  return performance.now() - start;
}

async function ratios(rounds: number): Promise<{ write: number; read: number }> {
  const database = await opened("bare");
  const cache = createCache();
  const store = await openStore(cache, { name: "cista" });
  const write: number[] = [];
  const read: number[] = [];
  for (let round = -3; round < rounds; round++) {
    for (let id = 0; id < count; id++) cache.put(hut, id, hutNumber(id, round));
    const sides = [() => written(database, round), () => store.flush()];
    const [bare, own] = await inTurns(sides, round);
    const readers = [() => readBare(), () => readStore()];
    const [bareRead, ownRead] = await inTurns(readers, round);
    if (round < 0) continue; // to warm up
    write.push(own / bare);
    read.push(ownRead / bareRead);
  }
  return { write: median(write), read: median(read) };
}

/** What a page does as it starts: opens the database, reads it all. */
async function readBare(): Promise<void> {
  const database = await opened("bare");
  if ((await readAll(database)).length !== count) throw new Error("not all was read");
  database.close();
}

async function readStore(): Promise<void> {
  const cache = createCache();
  cache.peek(hut, 0); // its source is known
  await openStore(cache, { name: "cista" });
  if (cache.peek(hut, count - 1).state !== "ready") throw new Error("not all was taken in");
  cache.dispose();
}

async function inTurns(sides: (() => Promise<unknown>)[], round: number): Promise<[number, number]> {
  const times = [0, 0];
  for (const at of round % 2 ? [0, 1] : [1, 0]) times[at] = await timed(sides[at] as () => Promise<unknown>);
  return times as [number, number];
}

Object.assign(globalThis, { ratios });
