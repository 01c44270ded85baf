import { milliseconds } from "../core/doors/tools.js";
import type { Clock, Duration, Environment } from "../core/index.js";

/** A clock that stands still until it is told to go on: nothing that uses it has to sleep. */
export interface VirtualClock extends Clock {
  /** Runs every due timer in order of time, then of creation, and lets promise reactions run between them, also after the last. */
  advance(by: Duration): Promise<void>;
  /** Moves `now()` alone, back or forth, as a wrong clock does: timers keep their delays. */
  jump(by: number): void;
  readonly pendingTimers: number;
}

interface Timer {
  readonly at: number;
  readonly order: number;
  readonly callback: () => void;
}

/**
 * @param start what `now()` says first; default 0
 * @param seed of `random()`, the same numbers for the same seed; default 1
 */
export function virtualClock(start = 0, seed = 1): VirtualClock {
  const timers = new Set<Timer>();
  let elapsed = 0; // what delays are counted in: jumps do not touch it
  let offset = start;
  let order = 0;
  let state = seed >>> 0;

  function earliest(until: number): Timer | undefined {
    let first: Timer | undefined;
    for (const timer of timers) {
      if (timer.at > until) continue;
      if (!first || timer.at < first.at || (timer.at === first.at && timer.order < first.order)) first = timer;
    }
    return first;
  }

  return {
    now: () => offset + elapsed,
    setTimer(callback, delay) {
      const timer: Timer = { at: elapsed + Math.max(0, delay), order: order++, callback };
      timers.add(timer);
      return timer;
    },
    clearTimer: (timer) => void timers.delete(timer as Timer),
    random() {
      // A linear congruential generator (Numerical Recipes' constants): plain, and the same everywhere.
      state = (Math.imul(state, 1664525) + 1013904223) >>> 0;
      return state / 2 ** 32;
    },
    async advance(by) {
      const until = elapsed + milliseconds(by, "advance");
      await reactions();
      for (let timer = earliest(until); timer; timer = earliest(until)) {
        timers.delete(timer);
        elapsed = Math.max(elapsed, timer.at);
        timer.callback();
        await reactions();
      }
      elapsed = until;
    },
    jump(by) {
      offset += by;
    },
    get pendingTimers() {
      return timers.size;
    },
  };
}

/** Lets chains of promise reactions run to their end: a macrotask of the platform comes after all of them. */
function reactions(): Promise<void> {
  const { setImmediate } = globalThis as { setImmediate?: (callback: () => void) => void };
  if (setImmediate) return new Promise((resolve) => setImmediate(resolve));
  return new Promise((resolve) => {
    const { port1, port2 } = new MessageChannel();
    port1.onmessage = () => {
      port1.close();
      resolve();
    };
    port2.postMessage(undefined);
  });
}

export interface VirtualEnvironment extends Environment {
  set(state: { visible?: boolean; online?: boolean }): void;
}

/** A page that is visible and online until it is told otherwise. */
export function virtualEnvironment(state: { visible?: boolean; online?: boolean } = {}): VirtualEnvironment {
  const listeners = new Set<{ call(): void }>();
  let { visible = true, online = true } = state;
  return {
    get visible() {
      return visible;
    },
    get online() {
      return online;
    },
    subscribe(listener) {
      const own = { call: listener };
      listeners.add(own);
      return () => void listeners.delete(own);
    },
    set(next) {
      visible = next.visible ?? visible;
      online = next.online ?? online;
      for (const listener of [...listeners]) listener.call();
    },
  };
}
