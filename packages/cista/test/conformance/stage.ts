import { type Cache, createCache, entriesOf } from "cista";
import type { Texts } from "cista/react";
import { type VirtualClock, type VirtualEnvironment, virtualClock, virtualEnvironment } from "cista/rehearsal";
import { afterEach, beforeEach, expect, vi, test as vitest } from "vitest";
import type { Driver, Page, Panel } from "./driver.js";

// For each test of the suite a page of the driver's framework, over a cache in virtual time. After it nothing is watched and
// nothing has complained.

let driver: Driver;
/** By whose framework the tests that are defined from now on draw their pages. */
export function drawBy(given: Driver): void {
  driver = given;
}
export const can = (kind: Driver["without"][number]): boolean => !driver.without.includes(kind);

export let clock: VirtualClock;
export let environment: VirtualEnvironment;
export let cache: Cache;
export let element: HTMLElement;
export let page: Page | undefined;
/** How often each panel has run. */
export let runs: Record<string, number>;
/** Errors that came to the framework's own handler, and that were reported as uncaught. */
export let threw: unknown[];
export let reported: unknown[];
/** A test may change these. */
export const options: {
  expectsTrouble: boolean;
  texts: Partial<Texts> | undefined;
  whenRan: ((panel: string) => void) | undefined;
} = { expectsTrouble: false, texts: undefined, whenRan: undefined };

beforeEach(() => {
  Object.assign(options, { expectsTrouble: false, texts: undefined, whenRan: undefined });
  clock = virtualClock(1_000_000);
  environment = virtualEnvironment();
  cache = createCache({ clock, environment });
  element = document.body.appendChild(document.createElement("main"));
  page = undefined;
  runs = {};
  threw = [];
  reported = [];
  vi.spyOn(globalThis, "reportError").mockImplementation((error) => void reported.push(error));
});
afterEach(async () => {
  await page?.unmount();
  await clock.advance(0);
  const left = options.expectsTrouble ? [] : watchers();
  element.remove();
  cache.dispose();
  vi.restoreAllMocks();
  expect(left.filter((count) => count > 0)).toEqual([]);
  expect(clock.pendingTimers).toBe(0);
  if (!options.expectsTrouble) expect([threw, reported]).toEqual([[], []]);
});

export const test = (name: string, run: () => Promise<void>): void => void vitest(name, run);
export const watchers = (): number[] => [...entriesOf(cache)].map((entry) => entry.watchers);

/** @param isProvided whether the page has a provider of the cache */
export async function mount(panels: Record<string, Panel>, isProvided = true): Promise<Page> {
  const stage = {
    element,
    cache: isProvided ? cache : undefined,
    texts: options.texts,
    ran: (panel: string) => {
      runs[panel] = (runs[panel] ?? 0) + 1;
      options.whenRan?.(panel);
    },
    threw: (error: unknown) => void threw.push(error),
  };
  page = await driver.mount(stage, panels);
  await page.rendered();
  return page;
}
export async function unmount(): Promise<void> {
  await page?.unmount();
  page = undefined;
}

export const text = (panel: string): string | undefined =>
  element.querySelector(`[data-panel="${panel}"] p`)?.textContent?.trim();
export const texts = (): (string | undefined)[] =>
  [...element.querySelectorAll("[data-panel] p")].map((each) => each.textContent?.trim());
export const press = (panel: string): void =>
  element.querySelector<HTMLElement>(`[data-panel="${panel}"] button`)?.click();

/** Lets answers come, so much time go by, and the page be brought up to date. */
export async function settle(by: number | string = 0): Promise<void> {
  await page?.rendered();
  await clock.advance(by as number);
  await page?.rendered();
}
/** A framework may take its time to put aside the panel that was shown while waiting. */
export const until = (check: () => void): Promise<void> => vi.waitFor(check);

/** The runs of each panel from now on. */
export function since(): () => Record<string, number> {
  const before = { ...runs };
  return () => Object.fromEntries(Object.keys(runs).map((name) => [name, (runs[name] ?? 0) - (before[name] ?? 0)]));
}
export function forgetRuns(): void {
  runs = {};
}

/** The texts on the page at each frame, as long as `during` takes and one more. */
export async function frames(during: () => void | Promise<void>): Promise<string[]> {
  const seen: string[] = [];
  let on = true;
  const look = () => {
    seen.push(texts().join(" | "));
    if (on) requestAnimationFrame(look);
  };
  requestAnimationFrame(look);
  await during();
  await new Promise(requestAnimationFrame);
  on = false;
  await new Promise(requestAnimationFrame);
  return seen.filter((each, at) => each !== seen[at - 1]);
}

/** The panels that `during` changes in the document, each with the kind of change. */
export async function mutations(during: () => void | Promise<void>): Promise<string[]> {
  const records: MutationRecord[] = [];
  const observer = new MutationObserver((more) => records.push(...more));
  observer.observe(element, { subtree: true, childList: true, characterData: true, attributes: true });
  await during();
  records.push(...observer.takeRecords());
  observer.disconnect();
  return records.map(({ target, type }) => {
    const at = target instanceof Element ? target : target.parentElement;
    return `${at?.closest("[data-panel]")?.getAttribute("data-panel")} ${type}`;
  });
}
