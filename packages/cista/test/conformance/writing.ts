import { Failure, write } from "cista";
import { expect } from "vitest";
import { heldSource } from "../stage.js";
import { environment, frames, mount, page, press, settle, test, text, texts } from "./stage.js";

/** Writes and their phases. */
export function writing(): void {
  test("C-W1 a write: its layer shows in the same frame in two panels, its phase beside; refused, it is taken back", async () => {
    const { source: list, loads } = heldSource("list", { maxAge: "1h", params: false });
    const sent: { answer(result: unknown): void; fail(thrown: unknown): void }[] = [];
    const add = write<string, unknown>({
      name: "add",
      send: () => new Promise((answer, fail) => sent.push({ answer, fail })),
      optimistic: (input, edit) => edit.at(list).patch((all: any) => (all.includes(input) ? all : [...all, input])),
    });
    await mount({
      a: { kind: "outcome", source: list },
      b: { kind: "value", source: list },
      form: { kind: "form", write: add, input: "b" },
    });
    loads[0]?.answer(["a"]);
    await settle();
    expect(texts()).toEqual(["ready a", "a", "none"]);
    const seen = await frames(async () => {
      press("form");
      await page?.rendered();
    });
    expect(seen.filter((each) => !["ready a | a | none", "ready a,b | a,b | sending"].includes(each))).toEqual([]);
    expect(texts()).toEqual(["ready a,b", "a,b", "sending"]);
    sent[0]?.fail(new Failure("http", "The hut is full", { status: 409 }));
    await settle();
    expect(texts()).toEqual(["ready a", "a", "failed The hut is full"]);
    press("form");
    await page?.rendered();
    sent[1]?.answer("it is done");
    await settle();
    expect(texts()).toEqual(["ready a,b", "a,b", "done it is done"]);
    loads.at(-1)?.answer(["a", "b"]);
    await settle();
    expect(texts()).toEqual(["ready a,b", "a,b", "done it is done"]);
  });

  test("C-W2 offline it waits, and says so; gone meanwhile, it goes on", async () => {
    const sent: string[] = [];
    const add = write<string, void>({ name: "add", send: async (input) => void sent.push(input) });
    environment.set({ online: false });
    await mount({ form: { kind: "form", write: add, input: "b" } });
    press("form");
    await page?.rendered();
    expect(text("form")).toBe("offline");
    page?.show("form", false);
    await page?.rendered();
    environment.set({ online: true });
    await settle();
    expect(sent).toEqual(["b"]);
  });

  test("C-W3 of overlapping runs a failure is told until one that was begun after it is done", async () => {
    const sent: { answer(result: unknown): void; fail(thrown: unknown): void }[] = [];
    const add = write<string, unknown>({
      name: "add",
      send: () => new Promise((answer, fail) => sent.push({ answer, fail })),
    });
    await mount({ form: { kind: "form", write: add, input: "b" } });
    press("form");
    press("form");
    await page?.rendered();
    sent[0]?.fail(new Failure("http", "refused", { status: 409 }));
    await settle();
    expect(text("form")).toBe("sending refused");
    sent[1]?.answer("second");
    await settle();
    expect(text("form")).toBe("failed refused");
    press("form");
    await page?.rendered();
    sent[2]?.answer("third");
    await settle();
    expect(text("form")).toBe("done third");
  });
}
