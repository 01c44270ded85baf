/** The right to ask for all. It is renewed while that lasts, and ends with its holder. Rules T4, T9. */
import type { Contact } from "./contact.js";
import type { Put, Release } from "./store.js";

/** The members of the process that a lease needs. */
export interface LeaseHost {
  readonly contact: Contact;
  /** Milliseconds. */
  readonly options: { readonly lease: number };
  /** Calls back after so many milliseconds. Returns a function that cancels it. */
  after(delay: number, callback: () => void): () => void;
}

export class Lease {
  readonly id: string;
  readonly #token: string;
  readonly #host: LeaseHost;
  #endTimer = (): void => {};
  /** It has been given back. */
  isOver = false;

  constructor(id: string, token: string, host: LeaseHost) {
    this.id = id;
    this.#token = token;
    this.#host = host;
    this.#renewLater();
  }

  /** Puts the answer, and gives the lease back in one go. Undefined where the store is away, or does not take it. */
  async put(put: Put): Promise<"stored" | "older" | "invalidated" | "lost" | undefined> {
    this.isOver = true;
    const { contact } = this.#host;
    const said = await contact.ask((store) => store.put(this.id, this.#token, put));
    if (said === undefined) void contact.ask((store) => store.release(this.id, this.#token, {})); // nobody waits for its end
    return said;
  }

  release(why: Release): void {
    if (this.isOver) return;
    this.end();
    this.isOver = true;
    void this.#host.contact.ask((store) => store.release(this.id, this.#token, why));
  }

  /** It is renewed no more. */
  end(): void {
    this.#endTimer();
  }

  #renewLater(): void {
    this.#endTimer = this.#host.after(this.#host.options.lease / 3, () => {
      void this.#host.contact.ask((store) => store.renew(this.id, this.#token));
      this.#renewLater();
    });
  }
}
