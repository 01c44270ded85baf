import { answer, journalOf, source, unchanged } from "cista";
import { expect } from "vitest";
import { heldSource } from "../stage.js";
import { cache, mount, mutations, page, settle, since, test, text, texts, watchers } from "./stage.js";

/** A panel runs for the members that it has looked at (rule N4). */
export function looking(): void {
  test("C-N1 an unchanged answer: no mutation and no run where only the value is looked at; the lamp moves", async () => {
    const answers = [
      answer({ water: 90 }, { maxAge: "10s" }),
      unchanged(),
      answer({ water: 90 }),
      answer({ water: 55 }),
    ];
    const hut = source<void, Promise<any>>({ name: "hut", load: async () => answers.shift() });
    const water = (value: any) => value.water;
    await mount({
      value: { kind: "value", source: hut, pick: water },
      whole: { kind: "value", source: hut },
      outcome: { kind: "outcome", source: hut, pick: water },
      lamp: { kind: "lamp", source: hut },
    });
    await settle();
    expect(texts()).toEqual(["90", "[object Object]", "ready 90", "none true"]);
    let more = since();
    let touched = await mutations(async () => {
      await cache.view(hut).revalidate(); // 304
      await page?.rendered();
    });
    expect(touched.filter((each) => !each.startsWith("lamp"))).toEqual([]);
    expect(more()).toMatchObject({ value: 0, whole: 0, outcome: 0 });
    more = since();
    touched = await mutations(() => settle("30s")); // stale
    expect(text("lamp")).toBe("none false");
    expect(touched.filter((each) => !each.startsWith("lamp"))).toEqual([]);
    expect(more()).toMatchObject({ value: 0, whole: 0, outcome: 0, lamp: 1 });
    more = since();
    touched = await mutations(async () => {
      await cache.view(hut).revalidate(); // an equal value
      await page?.rendered();
    });
    expect(touched.filter((each) => !each.startsWith("lamp"))).toEqual([]);
    expect(more()).toMatchObject({ value: 0, whole: 0, outcome: 0 });
    more = since();
    await cache.view(hut).revalidate();
    await page?.rendered();
    expect(texts()).toEqual(["55", "[object Object]", "ready 55", "none true"]);
    expect(more()).toMatchObject({ value: 1, whole: 1 });
  });

  test("C-N2 with pick: only its part counts, compared by structure", async () => {
    const hut = source<void, Promise<any>>({
      name: "hut",
      maxAge: "1h",
      load: async () => ({ name: "a", beds: [1, 2], note: 0 }),
    });
    await mount({
      a: { kind: "value", source: hut, pick: (value) => ({ beds: value.beds.map((n: number) => n * 2) }) },
    });
    await settle();
    const more = since();
    cache.at(hut).patch((value: any) => ({ ...value, note: 1 }));
    await page?.rendered();
    expect(more()).toEqual({ a: 0 });
    cache.at(hut).patch((value: any) => ({ ...value, beds: [3] }));
    await page?.rendered();
    expect(more()).toEqual({ a: 1 });
  });

  test("C-N3 params spelled anew make the same key: nothing runs, nothing is asked for", async () => {
    const { source: hut, loads } = heldSource("hut");
    await mount({ a: { kind: "value", source: hut, params: { id: 1, page: 2 } } });
    loads[0]?.answer("x");
    await settle();
    const moves: string[] = [];
    journalOf(cache).subscribe(({ kind }) => void (/tach/.test(kind) && moves.push(kind)));
    const touched = await mutations(async () => {
      page?.give("a", { params: { page: 2, id: 1 } });
      await settle();
    });
    expect([loads.length, touched, watchers(), moves]).toEqual([1, [], [1], []]);
  });
}
