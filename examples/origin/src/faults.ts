/** What is to go wrong, for every path that begins with `path`. All members but `path` are 0 or off when left out. */
export interface Fault {
  /** "/" is everything. The longest that fits counts. */
  path: string;
  /** Milliseconds before the answer. */
  latency?: number;
  /** Up to so many milliseconds more, at random. */
  jitter?: number;
  /** Nothing is done and answered before this fault is ended, or another takes its place. */
  held?: boolean;
  /** Every other answer is held back until the one after it has gone out, or two seconds have passed. */
  outOfOrder?: boolean;
  /** The share of answers that are errors, 0 to 1. Default 1 where there is a `status`. */
  failing?: number;
  /** The status of those errors, as a problem. Default 500. */
  status?: number;
  /** Their Retry-After field, in seconds. */
  retryAfter?: number;
  /** The share of connections that are cut without an answer, 0 to 1. 1 is an origin that is not there. */
  dropped?: number;
  /** The share of requests that are carried out, but whose connection is cut before the answer, 0 to 1. */
  unanswered?: number;
  /** The share of bodies that break off in the middle, 0 to 1. */
  truncated?: number;
  /** An HTML page comes where JSON should. */
  html?: boolean;
}

/** The faults that were asked for. */
export class Faults {
  #list: Fault[] = [];
  /** Lets the answer go that waits until the next one has come. */
  #release: (() => void) | undefined;
  /** Those who wait for the faults to be changed. */
  #waiting: (() => void)[] = [];

  set(fault: Fault): void {
    this.#list = [...this.#list.filter(({ path }) => path !== fault.path), fault];
    this.#changed();
  }

  clear(path?: string): void {
    this.#list = path === undefined ? [] : this.#list.filter((fault) => fault.path !== path);
    this.letGo();
    this.#changed();
  }

  /** Resolves when the faults are changed. */
  changed(): Promise<void> {
    return new Promise((resolve) => this.#waiting.push(resolve));
  }

  #changed(): void {
    for (const resolve of this.#waiting.splice(0)) resolve();
  }

  list(): readonly Fault[] {
    return this.#list;
  }

  for(path: string): Fault | undefined {
    const fitting = this.#list.filter((fault) => path.startsWith(fault.path));
    return fitting.sort((one, other) => other.path.length - one.path.length)[0];
  }

  /** Whether this answer is the one that overtakes; if not, it is told when to go. */
  overtakes(go: () => void): boolean {
    if (this.#release) return true;
    this.#release = go;
    return false;
  }

  letGo(): void {
    const release = this.#release;
    this.#release = undefined;
    release?.();
  }
}
