/** How one process hears the others' invalidations, and tells those that it could not tell before. Rules T8, T9. */
import type { Contact } from "./contact.js";
import type { FleetFigures } from "./figures.js";
import type { Memory } from "./memory.js";
import type { HeardInvalidation, Invalidation, News } from "./store.js";

/** The members of the process that hearing needs. */
export interface HearingHost {
  readonly contact: Contact;
  readonly memory: Memory;
  readonly figures: FleetFigures;
  readonly isClosed: boolean;
  now(): number;
  /** @param awaited whether the process is to stay alive for it */
  after(delay: number, callback: () => void, awaited?: boolean): () => void;
  /** The state of the process, as JSON. */
  about(): string;
  /** Something was invalidated, here or elsewhere. */
  onHeard(heard: HeardInvalidation): void;
  /** Something was missed: all may be out of date. */
  onGap(): void;
  /** The store is back. */
  onReturn(): void;
}

/** How often it asks, in milliseconds: messages may be lost. */
export const pollEvery = 500;

export class Hearing {
  readonly #host: HearingHost;
  /** The last invalidation that has been heard. */
  #last: number | undefined;
  /** Invalidated while there was no store: to be told when it is back. */
  #untold: { labels: Set<string>; ids: Set<string> } | undefined;
  #isPolling = false;
  #pollAgain = false;
  #endPause = (): void => {};

  constructor(host: HearingHost) {
    this.#host = host;
  }

  /** Asks now, and from then on twice a second. */
  async poll(): Promise<void> {
    if (this.#host.isClosed) return;
    if (this.#isPolling) {
      this.#pollAgain = true;
      return;
    }
    this.#isPolling = true;
    this.#endPause();
    do {
      this.#pollAgain = false;
      await this.#hearNews();
    } while (this.#pollAgain && !this.#host.isClosed);
    this.#isPolling = false;
    if (!this.#host.isClosed) this.#endPause = this.#host.after(pollEvery, () => void this.poll(), false);
  }

  /** To be told later. */
  keep({ labels, ids }: Invalidation): void {
    this.#untold ??= { labels: new Set(), ids: new Set() };
    for (const label of labels) this.#untold.labels.add(label);
    for (const id of ids) this.#untold.ids.add(id);
  }

  async #hearNews(): Promise<void> {
    const { contact, memory } = this.#host;
    const at = this.#host.now();
    const news = await contact.askAnyway((store) => store.news(this.#last, this.#host.about()));
    if (!news || this.#host.isClosed) return;
    this.#take(news);
    // Those who wait for us to have heard need to know.
    if (news.invalidations.length > 0) this.#pollAgain = true;
    if (!(await this.#tellKept())) return;
    if (!memory.heard(at) && !contact.isAway) return;
    memory.forgetAlone();
    memory.isAlone = false;
    contact.return();
    this.#host.onReturn();
  }

  #take({ last, invalidations, isGap }: News): void {
    if (isGap || this.#last === undefined) {
      this.#host.memory.begin(last);
      void this.#learnLabels();
    }
    this.#last = last;
    if (isGap) {
      this.#host.figures.gaps++;
      this.#host.onGap();
    }
    for (const heard of invalidations) {
      this.#host.memory.invalidated(heard);
      this.#host.onHeard(heard);
    }
  }

  /** Earlier invalidations are known then too. */
  async #learnLabels(): Promise<void> {
    const { contact, memory } = this.#host;
    const { hearing } = memory;
    const known = await contact.ask((store) => store.labels());
    if (known && hearing === memory.hearing) memory.learn(known.since, known.all);
  }

  /** @returns whether there is nothing left to tell */
  async #tellKept(): Promise<boolean> {
    const untold = this.#untold;
    if (!untold) return true;
    this.#untold = undefined;
    const what = { labels: [...untold.labels], ids: [...untold.ids] };
    const count = this.#host.memory.nextAlone();
    const version = await this.#host.contact.askAnyway((store) => store.invalidate(what));
    if (version === undefined) this.keep(what);
    else this.#host.memory.invalidated({ ...what, version }, count);
    return version !== undefined;
  }
}
