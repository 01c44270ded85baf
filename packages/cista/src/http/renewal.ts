import { ByContext } from "./by-context.js";
import type { OriginOptions } from "./contract.js";

/** The renewals of one cache's tokens. */
interface Renewal {
  /** How many have ended well. */
  count: number;
  underWay: Promise<void> | undefined;
}

/** Calls `OriginOptions.renew`: one renewal at a time, for each `context` that a cache was given. */
export class Renewals {
  readonly #renew: NonNullable<OriginOptions["renew"]>;
  readonly #renewals = new ByContext<Renewal>(() => ({ count: 0, underWay: undefined }));

  constructor(renew: NonNullable<OriginOptions["renew"]>) {
    this.#renew = renew;
  }

  /** How many there have been: to be noted before a request is made. */
  count(context: unknown): number {
    return this.#renewals.of(context).count;
  }

  isUnderWay(context: unknown): boolean {
    return this.#renewals.of(context).underWay !== undefined;
  }

  /**
   * Resolves when the token is newer than it was when `before` was noted. Joins the renewal under way, or begins one; where
   * another has ended meanwhile there is nothing to wait for. Rejects with the error of `renew`.
   */
  async renewed(context: unknown, before: number): Promise<void> {
    const renewal = this.#renewals.of(context);
    if (renewal.count > before) return;
    renewal.underWay ??= this.#run(renewal, context);
    await renewal.underWay;
  }

  async #run(renewal: Renewal, context: unknown): Promise<void> {
    try {
      await this.#renew({ context });
      renewal.count++;
    } finally {
      renewal.underWay = undefined;
    }
  }
}
