/** One tab, as those see it who share its loads and tell the others. */
import type { LoadCall } from "../../core/index.js";
import type { Body, News } from "./messages.js";
import type { Moments } from "./moments.js";
import type { TabLocks } from "./platform.js";

/** The members of a tab that its loads need. */
export interface Hub {
  /** This tab's name. */
  readonly id: string;
  readonly moments: Moments;
  readonly locks: TabLocks | undefined;
  /** The name of a lock of this group of tabs. */
  lockName(about: string): string;
  /** Milliseconds, for lengths of time: no one sets this clock. */
  now(): number;
  /** Calls back after so many milliseconds. Returns a function that cancels it. */
  after(delay: number, callback: () => void): () => void;
  tell(body: Body): void;
  /** No other tab has been heard of, and there was time for it. */
  readonly isAlone: boolean;
  readonly isClosed: boolean;
  readonly isFrozen: boolean;
  /** Resolves when the page goes on, and knows the values of the other tabs. */
  ready(): Promise<void>;
  /** Resolves when the page goes on, and knows by which clock the others go. */
  mayTell(): Promise<void>;
  isShared(call: LoadCall): boolean;
  /** Whether entries of a source are told at all; and whether this tab has used it. */
  isNamed(source: string): boolean;
  isUsed(source: string): boolean;
  /** Whether this tab holds the value since before it was away, and no other tab has confirmed it yet. */
  isDoubted(key: string): boolean;
  /** The values that the others were known to hold before this tab asked for them. */
  known(key: string): News | undefined;
}
