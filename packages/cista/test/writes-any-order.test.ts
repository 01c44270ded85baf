import { Failure, source, write } from "cista";
import fc from "fast-check";
import { expect, test } from "vitest";
import { isQuick, programsOf } from "./model/programs.js";
import { stage } from "./stage.js";

const { runs, seed, ran } = programsOf("writes", 300, 3);

const step = fc.oneof(
  { weight: 4, arbitrary: fc.record({ kind: fc.constant("write"), entry: fc.nat(2), second: fc.nat(2) }) },
  {
    weight: 5,
    arbitrary: fc.record({ kind: fc.constantFrom("accept", "refuse", "cut after", "cut before"), which: fc.nat(4) }),
  },
  { weight: 5, arbitrary: fc.record({ kind: fc.constantFrom("process", "answer"), which: fc.nat(4) }) },
  {
    weight: 2,
    arbitrary: fc.record({ kind: fc.constantFrom("revalidate", "invalidate", "attach", "detach"), entry: fc.nat(2) }),
  },
  { weight: 1, arbitrary: fc.record({ kind: fc.constantFrom("time", "wake"), which: fc.nat(60) }) },
);

test("W1, W2: up to five writes in any order end as on the server (property, from a random seed)", async () => {
  await fc.assert(
    fc.asyncProperty(fc.array(step, { minLength: 5, maxLength: 40 }), async (steps) => {
      ran(steps.length);
      const { cache, clock, environment } = stage();
      const server: string[][] = [[], [], []];
      /** Loads under way: what the server said, once it has looked. */
      const loads: { entry: number; said?: string[]; answer(value: string[]): void }[] = [];
      const list = source<number, Promise<string[]>>({
        name: "list",
        maxAge: "20s",
        staleWhileRevalidate: "20s",
        load: (entry) => new Promise((answer) => loads.push({ entry, answer })),
      });
      interface Sent {
        readonly item: string;
        readonly entries: readonly number[];
        accept(): void;
        fail(failure: Failure): void;
      }
      const sent: Sent[] = [];
      const add = write<Omit<Sent, "accept" | "fail">, void>({
        name: "add",
        timeout: Number.POSITIVE_INFINITY,
        send: (input) => new Promise((accept, fail) => sent.push({ ...input, accept, fail })),
        optimistic: ({ item, entries }, edit) => {
          for (const entry of entries) edit.at(list, entry).patch((all) => (all.includes(item) ? all : [...all, item]));
        },
      });
      const accepted = new Set<Sent>();
      const gone = new Set<Sent>();
      const views = [0, 1, 2].map((entry) => cache.view(list, entry));
      const leave: ((() => void) | undefined)[] = views.map((view) => view.subscribe(() => {}));
      const reached = ({ item, entries }: Sent) => {
        for (const entry of entries) server[entry]?.push(item);
      };
      const process = (load: (typeof loads)[number]) => {
        load.said ??= [...(server[load.entry] ?? [])];
      };
      const answer = (load: (typeof loads)[number]) => {
        process(load);
        loads.splice(loads.indexOf(load), 1);
        load.answer(load.said ?? []);
      };
      const check = () => {
        for (const [entry, view] of views.entries()) {
          const reading = view.get();
          if (reading.state !== "ready" || !leave[entry]) continue;
          expect(new Set(reading.value).size).toBe(reading.value.length);
          for (const each of [...sent, ...accepted])
            if (each.entries.includes(entry)) expect(reading.value).toContain(each.item);
          const pending = sent.filter((each) => each.entries.includes(entry)).length;
          expect(reading.pendingWrites).toBe(pending);
          for (const each of gone)
            if (!server[entry]?.includes(each.item)) expect(reading.value).not.toContain(each.item);
        }
      };
      let count = 0;
      const take = ({ kind, which = 0, entry = 0, second = 0 }: any) => {
        const load = loads[which % Math.max(1, loads.length)];
        const one = sent[which % Math.max(1, sent.length)];
        if (kind === "write" && sent.length < 5) {
          const entries = [...new Set([entry, second])];
          cache.run(add, { item: `i${count++}`, entries }).catch(() => {});
        } else if (kind === "process" && load) process(load);
        else if (kind === "answer" && load) answer(load);
        else if (kind === "revalidate") void views[entry]?.revalidate();
        else if (kind === "invalidate") cache.invalidate({ source: list, params: entry });
        else if (kind === "attach") leave[entry] ??= views[entry]?.subscribe(() => {});
        else if (kind === "detach") {
          leave[entry]?.();
          leave[entry] = undefined;
        } else if (kind === "wake") {
          environment.set({ visible: false });
          environment.set({ visible: true });
        } else if (one && ["accept", "refuse", "cut after", "cut before"].includes(kind)) {
          sent.splice(sent.indexOf(one), 1);
          if (kind === "accept" || kind === "cut after") reached(one);
          (kind === "accept" ? accepted : gone).add(one);
          if (kind === "accept") one.accept();
          else if (kind === "refuse") one.fail(new Failure("http", "full", { status: 409 }));
          else one.fail(new Failure("network", "cut"));
        }
      };
      for (const each of steps) {
        take(each);
        await clock.advance(each.kind === "time" ? `${(each as any).which}s` : 0);
        check();
      }
      while (sent.length > 0) take({ kind: "accept" });
      await clock.advance(0);
      for (const [entry, view] of views.entries()) leave[entry] ??= view.subscribe(() => {});
      for (let rounds = 0; rounds < 20; rounds++) {
        for (const view of views) if (rounds < 2) void view.revalidate();
        await clock.advance(0);
        while (loads.length > 0) answer(loads[0] as never);
        await clock.advance(0);
        check();
      }
      for (const [entry, view] of views.entries()) {
        expect(view.get()).toMatchObject({ state: "ready", value: server[entry], pendingWrites: 0, request: "none" });
      }
      cache.dispose();
    }),
    { numRuns: runs, seed, endOnFailure: isQuick },
  );
}, 3_600_000);
