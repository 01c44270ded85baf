/** The messages of tabs that keep writes. See docs/outbox-format.md. */
import type { TabChannel, TabPlatform } from "../tabs/platform.js";
import { type KeptRecord, recordVersion, type StoredFailure } from "./records.js";

export type Body =
  | { readonly kind: "added"; readonly record: KeptRecord }
  /** With its record: the page that ran it may have ended before it told of it. */
  | { readonly kind: "sending"; readonly id: string; readonly record: KeptRecord }
  | { readonly kind: "waiting" | "dropped"; readonly id: string }
  | { readonly kind: "done"; readonly id: string; readonly result?: unknown }
  | { readonly kind: "refused"; readonly id: string; readonly failure: StoredFailure }
  | { readonly kind: "cleared" | "asks" | "alive" };

/** A heard message, each of whose members is still to be checked (rule S1). */
export type Heard = { readonly [member in "kind" | "id" | "record" | "result" | "failure"]?: unknown };

/** The channel of one outbox. */
export class OutboxChannel {
  readonly #platform: TabPlatform;
  readonly #scope: string;
  readonly #hear: (heard: Heard) => void;
  #channel: TabChannel | undefined;

  constructor(platform: TabPlatform, scope: string, hear: (heard: Heard) => void) {
    this.#platform = platform;
    this.#scope = `cista outbox ${recordVersion} ${scope}`;
    this.#hear = hear;
    this.open();
  }

  open(): void {
    this.#channel = this.#platform.open(this.#scope, (data) => {
      if ((data as { v?: unknown } | null)?.v === recordVersion) this.#hear(data as Heard);
    });
  }

  /** Until it is opened again nothing is told: a closed channel throws. */
  close(): void {
    this.#channel?.close();
    this.#channel = undefined;
  }

  tell(body: Body): void {
    this.#channel?.post({ v: recordVersion, ...body });
  }

  tellDone(id: string, result: unknown): void {
    try {
      this.tell({ kind: "done", id, result });
    } catch {
      this.tell({ kind: "done", id }); // what it returned cannot be cloned
    }
  }
}
