/** One timer for the moments of all entries. Rules F8, N5. */
import type { Clock } from "../api/seams.js";

/** Stands for no moment. (Not Infinity: small integers take no space of their own. Not -1: clocks can be put back.) */
export const never: number = -(2 ** 31);

/** Something with a next moment that matters. */
export interface Scheduled {
  /** When something is next to be done about it, on the cache's clock, or `never`. Write it through `Schedule.set`. */
  due: number;
  /** The moment of the slot that it stands in, never later than `due`; `never`: in no slot. */
  slotTime: number;
}

/** The items whose slot is one moment. */
interface Slot<T> {
  moment: number;
  items: T[];
  /** How many of the items were removed, but are still referred to from here. */
  removed: number;
}

/** The longest delay that platforms' timers take (2^31 - 1 ms, about 24 days), halved so that sums stay below it. */
const farthest = 2 ** 30;

/**
 * One timer for all moments of all entries. What is due far off is filed coarsely, under a moment up to an eighth of
 * the way too early, and filed again, more finely, when that moment comes: so there are a few hundred moments at most,
 * however many entries, and one that is put off again and again costs one written field each time.
 */
export class Schedule<T extends Scheduled> {
  readonly #clock: Clock;
  readonly #now: () => number;
  readonly #onDue: (items: T[]) => void;
  readonly #onPutBack: () => void;
  readonly #slots = new Map<number, Slot<T>>();
  /** The slots used last, by their moments: most items in a row have one of few lifetimes. */
  readonly #recentSlots: (Slot<T> | undefined)[] = new Array(16).fill(undefined);
  #next = Number.POSITIVE_INFINITY;
  #timer: unknown;

  /**
   * @param onDue gets all that is due at one moment, each taken out of the schedule
   * @param onPutBack the clock was put back since the timer was set: what is counted from a last time is to be set anew
   */
  constructor(clock: Clock, now: () => number, onDue: (items: T[]) => void, onPutBack: () => void) {
    this.#onPutBack = onPutBack;
    this.#clock = clock;
    this.#now = now;
    this.#onDue = onDue;
  }

  /** Sets an item's moment, Infinity for never. A later moment is only noted: the item moves when the old slot comes due. */
  set(item: T, due: number): void {
    if (due === Number.POSITIVE_INFINITY) {
      item.due = never;
      return;
    }
    item.due = due;
    if (due < item.slotTime || item.slotTime === never) this.#addToSlot(item, this.#now());
  }

  /** Removes an item. A slot drops its removed items at the latest when they are half of it. */
  remove(item: T): void {
    const file = this.#slots.get(item.slotTime);
    item.due = never;
    item.slotTime = never;
    if (file && ++file.removed > 32 && file.removed * 2 > file.items.length) compact(file);
  }

  stop(): void {
    this.#slots.clear();
    this.#recentSlots.fill(undefined);
    this.#arm(Number.POSITIVE_INFINITY);
  }

  #addToSlot(item: T, now: number): void {
    const ahead = item.due - now;
    const level = ahead < 16 ? 0 : 28 - Math.clz32(Math.min(ahead, farthest));
    const grain = 1 << level; // 1/16 to 1/8 of the way
    const moment =
      ahead >= farthest
        ? now + farthest
        : Math.max(now, level ? Math.floor(item.due / grain) * grain : Math.ceil(item.due));
    item.slotTime = moment;
    const place = (moment / grain + level) & 15;
    let file = this.#recentSlots[place];
    if (file?.moment !== moment) {
      file = this.#slots.get(moment) ?? this.#openSlot(moment);
      this.#recentSlots[place] = file;
    }
    file.items.push(item);
  }

  #openSlot(moment: number): Slot<T> {
    const file: Slot<T> = { moment, items: [], removed: 0 };
    this.#slots.set(moment, file);
    if (moment < this.#next) this.#arm(moment);
    return file;
  }

  #arm(moment: number): void {
    if (this.#timer !== undefined) this.#clock.clearTimer(this.#timer);
    this.#timer = undefined;
    this.#next = moment;
    if (moment === Number.POSITIVE_INFINITY) return;
    const now = this.#now();
    const delay = Math.min(Math.max(0, moment - now), farthest);
    this.#timer = this.#clock.setTimer(() => this.#onTimer(now), delay);
  }

  /** The timer has rung. A clock that was put back meanwhile makes it ring too early: then nothing is due and it is set again. */
  #onTimer(armedAt: number): void {
    this.#timer = undefined;
    const now = this.#now();
    if (now < armedAt) this.#onPutBack();
    const due: T[] = [];
    for (const moment of [...this.#slots.keys()]) {
      if (moment > now) continue;
      const file = this.#slots.get(moment) as Slot<T>;
      this.#slots.delete(moment);
      file.moment = never; // those used last may still lead to it
      for (const item of file.items) {
        if (item.slotTime !== moment) continue; // filed elsewhere since
        item.slotTime = never;
        if (item.due > now) this.#addToSlot(item, now);
        else if (item.due !== never) due.push(item);
      }
    }
    let next = Number.POSITIVE_INFINITY;
    for (const moment of this.#slots.keys()) next = Math.min(next, moment);
    this.#arm(next);
    if (due.length > 0) this.#onDue(due);
  }
}

/** Keeps the items that are still in this slot, each once: one that was removed and added again stands here twice. */
function compact<T extends Scheduled>(file: Slot<T>): void {
  const kept = file.items.filter((item) => {
    const here = item.slotTime === file.moment;
    if (here) item.slotTime = never; // its second place finds it so
    return here;
  });
  for (const item of kept) item.slotTime = file.moment;
  file.items = kept;
  file.removed = 0;
}
