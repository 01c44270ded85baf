import { createCache, Failure, write } from "cista";
import { CistaProvider, useReading, useWrite } from "cista/react";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { act, type FormEvent, type ReactNode, StrictMode, startTransition, version } from "react";
import { createRoot } from "react-dom/client";
import { expect, test } from "vitest";
import { heldSource } from "./stage.js";

(globalThis as any).IS_REACT_ACT_ENVIRONMENT = true;

/** As each version of React has it. */
const submitting = (send: () => void) =>
  version.startsWith("18.")
    ? {
        onSubmit: (event: FormEvent) => {
          event.preventDefault();
          send();
        },
      }
    : { action: send };

/** A page with a list and a form that adds to it. */
async function page() {
  const clock = virtualClock(1_000_000);
  const environment = virtualEnvironment();
  const cache = createCache({ clock, environment });
  const troubles: unknown[] = [];
  const note = (event: PromiseRejectionEvent) => troubles.push(event.reason);
  addEventListener("unhandledrejection", note);
  const { source: list, loads } = heldSource("list", { maxAge: "1h" });
  const sent: { answer(result: unknown): void; fail(thrown: unknown): void }[] = [];
  const add = write<string, unknown>({
    name: "add",
    send: () => new Promise((answer, fail) => sent.push({ answer, fail })),
    optimistic: (input, edit) => edit.at(list).patch((all: any) => (all.includes(input) ? all : [...all, input])),
  });
  const element = document.body.appendChild(document.createElement("div"));
  const root = createRoot(element);
  let renders = 0;
  function List() {
    const { value, pendingWrites } = useReading(list);
    return (
      <p>
        {String(value)} ({pendingWrites})
      </p>
    );
  }
  function Form() {
    const [run, sending] = useWrite(add);
    renders++;
    return (
      <form {...submitting(() => void run("c"))}>
        <button type="button" onClick={() => void run("b")}>
          {sending.phase} {String(sending.result ?? "")} {sending.failure?.message}
        </button>
        <button type="reset" onClick={sending.reset} />
        <button
          type="button"
          className="transition"
          onClick={() => startTransition(async () => void (await run("d")))}
        />
        <input type="submit" />
      </form>
    );
  }
  const show = (tree: ReactNode) =>
    act(() =>
      root.render(
        <StrictMode>
          <CistaProvider cache={cache}>
            <List />
            {tree}
          </CistaProvider>
        </StrictMode>,
      ),
    );
  await show(<Form />);
  await act(async () => {
    loads[0]?.answer(["a"]);
    await clock.advance(0);
  });
  return {
    loads,
    sent,
    environment,
    troubles,
    show,
    renders: () => renders,
    press: (what: string) => act(async () => element.querySelector<HTMLElement>(what)?.click()),
    text: () => element.textContent?.trim().replace(/\s+/g, " "),
    settle: (change: () => void) =>
      act(async () => {
        change();
        await clock.advance(0);
      }),
    end: async () => {
      await act(() => root.unmount());
      cache.dispose();
      element.remove();
      await new Promise((resolve) => setTimeout(resolve));
      removeEventListener("unhandledrejection", note);
      return troubles;
    },
  };
}

test("W4: useWrite says how far it has come, the result or the failure", async () => {
  const { press, text, settle, sent, environment, end } = await page();
  expect(text()).toBe("a (0)none");
  await press("button");
  expect(text()).toBe("a,b (1)sending");
  await settle(() => sent[0]?.answer("it is done"));
  expect(text()).toBe("a,b (0)done it is done");
  await press("[type=reset]");
  expect(text()).toBe("a,b (0)none");
  environment.set({ online: false });
  await press("input");
  expect(text()).toBe("a,b,c (1)offline");
  await settle(() => environment.set({ online: true }));
  expect(text()).toBe("a,b,c (1)sending");
  await settle(() => sent[1]?.fail(new Failure("http", "The hut is full", { status: 409 })));
  expect(text()).toBe("a,b (0)failed The hut is full");
  expect(await end()).toEqual([]);
});

test("E1: a run that fails behind the last one is told; gone while sending, it goes on and nothing complains", async () => {
  const { press, text, settle, sent, show, loads, end } = await page();
  await press("button");
  await press("input");
  await settle(() => sent[0]?.fail(new Failure("http", "refused", { status: 409 })));
  expect(text()).toBe("a,c (1)sending refused");
  await show(null);
  expect(text()).toBe("a,c (1)");
  await settle(() => sent[1]?.answer("done"));
  await settle(() => loads[1]?.answer(["a", "c"]));
  expect(text()).toBe("a,c (0)");
  expect(await end()).toEqual([]);
});

test("W1: in React's own transition the change is shown at once", async () => {
  const { press, text, settle, sent, end } = await page();
  await press(".transition");
  expect(text()).toMatch(/^a,d \(1\)/);
  await settle(() => sent[0]?.answer("it is done"));
  expect(text()).toBe("a,d (0)done it is done");
  expect(await end()).toEqual([]);
});
