// Stands for a framework: signals, computed values, effects and cleanup, in the smallest form in which they work.

let running: (() => void) | undefined;
const cleanups: (() => void)[] = [];

/** `track` notes who is looking, `trigger` runs them again. */
export function signal() {
  const lookers = new Set<() => void>();
  return {
    track: () => void (running && lookers.add(running)),
    trigger: () => {
      for (const look of [...lookers]) look();
    },
  };
}

export function computed<T>(make: () => T): () => T {
  return make;
}

export function runEffect(effect: () => void): void {
  const run = () => {
    const before = running;
    running = run;
    effect();
    running = before;
  };
  run();
}

export function onCleanup(end: () => void): void {
  cleanups.push(end);
}

/** A component leaves the page. */
export function cleanUp(): void {
  for (const end of cleanups.splice(0)) end();
}
