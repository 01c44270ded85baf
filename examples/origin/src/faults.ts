/** What is to go wrong, for every path that begins with `path`. All members but `path` are 0 or off when left out. */
export interface Fault {
  /** "/" is everything. The longest that fits counts. */
  path: string;
  /** Milliseconds before the answer. */
  latency?: number;
  /** Up to so many milliseconds more, at random. */
  jitter?: number;
  /** The share of answers that are 500s, 0 to 1. */
  failing?: number;
  /** The share of connections that are cut without an answer, 0 to 1. 1 is an origin that is not there. */
  dropped?: number;
  /** Every answer has this status, as a problem. */
  status?: number;
  /** With `status`: the Retry-After field, in seconds. */
  retryAfter?: number;
  /** An HTML page comes where JSON should. */
  html?: boolean;
}

/** The faults that were asked for. */
export class Faults {
  #list: Fault[] = [];

  set(fault: Fault): void {
    this.#list = [...this.#list.filter(({ path }) => path !== fault.path), fault];
  }

  clear(path?: string): void {
    this.#list = path === undefined ? [] : this.#list.filter((fault) => fault.path !== path);
  }

  list(): readonly Fault[] {
    return this.#list;
  }

  for(path: string): Fault | undefined {
    const fitting = this.#list.filter((fault) => path.startsWith(fault.path));
    return fitting.sort((one, other) => other.path.length - one.path.length)[0];
  }
}
