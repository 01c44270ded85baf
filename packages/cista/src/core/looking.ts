import type { Entry } from "./entry.js";
import { guarded } from "./journal.js";
import { type AnyReading, sameReading } from "./reading.js";
import { wantsRequest } from "./watching.js";
import type { Wiring } from "./wiring.js";

/** Makes the pictures of entries that components render from; the same object as before wherever nothing changed. */
export class Looking {
  readonly #wiring: Wiring;
  /** Asks the source of an entry now: what every reading's own `revalidate` does. */
  readonly #ask: (entry: Entry) => Promise<void>;
  readonly #standIn: (entry: Entry) => unknown;

  constructor(wiring: Wiring, ask: (entry: Entry) => Promise<void>, standIn: (entry: Entry) => unknown) {
    this.#wiring = wiring;
    this.#ask = ask;
    this.#standIn = standIn;
  }

  /** Makes a watched entry's reading anew; says whether it is another one. */
  renew(entry: Entry): boolean {
    const before = entry.reading;
    const reading = this.#known(entry, this.#compose(entry, this.#wiring.now(), entry.isAsking));
    entry.reading = reading;
    const activity = entry.active();
    activity.prospect = undefined;
    activity.shown = activity.watchers > 0 && (reading.state === "ready" || reading.state === "missing");
    return reading !== before;
  }

  /** The reading now, for a view that does not attach, or starts nothing. */
  now(entry: Entry): AnyReading {
    const reading = this.#known(entry, this.#compose(entry, this.#wiring.now(), entry.isAsking));
    if (entry.watchers === 0) entry.reading = reading;
    return reading;
  }

  /** Rule N3: what a view will show when it has attached, so that its component renders once less. */
  ahead(entry: Entry): AnyReading {
    const now = this.#wiring.now();
    const asks = entry.isAsking || wantsRequest(entry, now);
    const reading = this.#known(entry, this.#compose(entry, now, asks));
    entry.active().prospect = reading;
    return reading;
  }

  /** What is held, whatever the allowances. */
  held(entry: Entry): AnyReading {
    const now = this.#wiring.now();
    const reading = this.#known(entry, this.#compose(entry, now, entry.isAsking, true));
    if (entry.watchers === 0) entry.reading = reading;
    return reading;
  }

  /** The object that already shows the same, if there is one. */
  #known(entry: Entry, reading: AnyReading): AnyReading {
    if (entry.reading && sameReading(entry.reading, reading)) return entry.reading;
    const prospect = entry.activity?.prospect;
    return prospect && sameReading(prospect, reading) ? prospect : reading;
  }

  #compose(entry: Entry, now: number, asking: boolean, whatever = false): AnyReading {
    const failure = entry.activity?.failure;
    const shows = whatever ? entry.held !== "none" : entry.showsHeld(now, asking);
    const state = shows
      ? entry.held === "value"
        ? "ready"
        : "missing"
      : asking
        ? "loading"
        : failure
          ? "failed"
          : "empty";
    const standIn = state === "loading" ? this.#standIn(entry) : undefined;
    return {
      key: entry.key,
      state,
      value: state === "ready" ? entry.value : standIn,
      provisional: standIn === undefined ? undefined : "stand-in",
      fresh: shows ? entry.isFresh(now) : undefined,
      storedAt: shows ? this.#wiring.epoch + entry.storedAt : undefined,
      failure,
      pendingWrites: state === "ready" ? 0 : undefined,
      request: this.#phase(entry, asking),
      revalidate: entry.reading?.revalidate ?? entry.activity?.prospect?.revalidate ?? (() => this.#ask(entry)),
    };
  }

  /** Of the request under way, or of the one that attaching would begin. */
  #phase(entry: Entry, asking: boolean): AnyReading["request"] {
    if (!asking) return "none";
    const phase = entry.request?.phase ?? "none";
    if (phase !== "none") return phase;
    return entry.shelf.settings.usesNetwork && !this.#wiring.environment.online ? "offline" : "running";
  }
}

/** A source's stand-in, made once for each time that there is nothing else to show. */
export function standInOf(entry: Entry, make: ((params: unknown) => unknown) | undefined): unknown {
  if (!make) return undefined;
  const activity = entry.active();
  if (!activity.standIn) {
    let value: unknown;
    guarded(() => {
      value = make(entry.params);
    });
    activity.standIn = { value };
  }
  return activity.standIn.value;
}
