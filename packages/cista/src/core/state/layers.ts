/**
 * The core's contract for the layers that writes lay over an entry. How they are laid and removed comes with `write()`
 * (features/writing/layers.ts): a program without writes does not carry it along. Rules W1, W2.
 */

/** The layers of one run: see `WriteLayers`. */
export type SentLayers = object;

/** The layers over the held value of one entry; made with the first. */
export interface Layers {
  /** How many there are. */
  readonly count: number;
  /** How many writes that have laid one have not ended. */
  readonly pendingWrites: number;
  /** The held value with all of them applied. */
  value(): unknown;
  /** The value that they last made, to keep its references; undefined before. */
  readonly lastMade: { readonly value: unknown } | undefined;
  /** Rule W2: an answer begun at this version tells the outcome of the writes that ended before it. */
  removeConfirmed(startVersion: number): void;
  /** Those of writes that have ended. */
  removeSettled(note: string): void;
  /** Those of writes that another user has run than the one who asks now (rule F9). @param by the run that has told of this user */
  removeOfOtherUser(by: object | undefined): void;
  removeAll(note: string): void;
}
