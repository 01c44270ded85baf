/** A kept write, as programs see it. */
import type { Failure } from "../../core/index.js";

/** A write that waits to be sent, or was refused. */
export interface KeptWrite {
  /** Its Idempotency-Key: the same for all tries of all tabs. */
  readonly id: string;
  /** The write's name. */
  readonly write: string;
  readonly input: unknown;
  /** When it was run: milliseconds since the Unix epoch. */
  readonly at: number;
  /**
   * "unknown": this version of the program has no such write, or none that takes this input. It is not sent.
   * "other-user": another user ran it (see `user` of the write). It is neither shown nor sent until that user asks again.
   */
  readonly state: "waiting" | "sending" | "refused" | "unknown" | "other-user";
  /** Why it was refused. */
  readonly failure?: Failure;
}
