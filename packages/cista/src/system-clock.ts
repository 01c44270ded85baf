import type { Clock } from "./core/index.js";

/** The platform's time. Its globals are looked up at each call, so that fake timers of a test apply. */
export const systemClock: Clock = {
  now: () => Date.now(),
  setTimer(callback, delay, awaited = false) {
    const timer: unknown = setTimeout(callback, delay);
    // In Node no timer of an idle cache keeps the process alive (rule F8); the pause before another try must, or a
    // program that awaits a read would end in the middle of it.
    if (!awaited && typeof timer === "object" && timer !== null && "unref" in timer)
      (timer as { unref(): void }).unref();
    return timer;
  },
  clearTimer: (timer) => clearTimeout(timer as Parameters<typeof clearTimeout>[0]),
  random: () => Math.random(),
};
