/** What the tabs that keep writes tell each other. See docs/outbox-format.md. */
import type { KeptRecord, StoredFailure } from "./records.js";

export type Body =
  | { readonly kind: "added"; readonly record: KeptRecord }
  | { readonly kind: "sending" | "waiting" | "dropped"; readonly id: string }
  | { readonly kind: "done"; readonly id: string; readonly result?: unknown }
  | { readonly kind: "refused"; readonly id: string; readonly failure: StoredFailure }
  | { readonly kind: "cleared" | "asks" | "alive" };
