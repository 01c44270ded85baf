import { type Cache, createCache, entriesOf } from "cista";
import { CistaProvider } from "cista/react";
import { virtualClock, virtualEnvironment } from "cista/rehearsal";
import { act, type ReactNode, StrictMode } from "react";
import { createRoot, type Root } from "react-dom/client";
import { afterEach, beforeEach, expect, vi } from "vitest";

// For each test a page of React, with a cache under a virtual clock. After it nothing is watched, no timer is left and no promise was rejected unseen.

(globalThis as any).IS_REACT_ACT_ENVIRONMENT = true;

export let cache: Cache;
export let clock: ReturnType<typeof virtualClock>;
export let root: Root;
export let page: HTMLElement;
const rejected: unknown[] = [];
const note = (event: PromiseRejectionEvent) => void rejected.push(event.reason);

beforeEach(() => {
  clock = virtualClock(1_000_000);
  cache = createCache({ clock, environment: virtualEnvironment() });
  page = document.body.appendChild(document.createElement("div"));
  root = createRoot(page);
  addEventListener("unhandledrejection", note);
});
afterEach(async () => {
  await act(() => root.unmount());
  await act(() => clock.advance(2000)); // the grace of values that nobody came for
  expect([...entriesOf(cache)].filter(({ watchers }) => watchers > 0)).toEqual([]);
  cache.dispose();
  page.remove();
  vi.restoreAllMocks();
  removeEventListener("unhandledrejection", note);
  expect([clock.pendingTimers, rejected.splice(0)]).toEqual([0, []]);
});

/** Renders the tree within a provider of the cache; in StrictMode, unless a test counts renders. */
export const show = (tree: ReactNode, strict = true) => {
  const within = <CistaProvider cache={cache}>{tree}</CistaProvider>;
  return act(async () => root.render(strict ? <StrictMode>{within}</StrictMode> : within));
};
/** Makes a change, lets so much time go by, and lets React render. */
export const settle = (by: number | string = 0, change: () => void = () => {}) =>
  act(async () => {
    change();
    await clock.advance(by as number);
  });
/** Presses the first element that the selector finds. */
export const press = (selector: string) => act(async () => page.querySelector<HTMLElement>(selector)?.click());
