/** The place and the groups of each stored entry, by which changes find its record. Rule S1. */
import { type StoredEntry, wellFormed } from "../core/doors/sharing.js";
import { keyText, textHash } from "../core/doors/tools.js";
import type { StoredRecord } from "./backend.js";

/** A stored entry, as far as changes have to find it. */
export interface Stored {
  readonly bytes: number;
  readonly place: Pick<StoredEntry, "source" | "params">;
  readonly marks: readonly unknown[];
  /** The keys of the dependencies of a composite. */
  readonly dependencies: ReadonlySet<string>;
}

const none: ReadonlySet<string> = new Set();

/** Two groups may have one mark: then an entry is loaded once more. */
export function markOf(group: string): number {
  const hash = textHash(group, 0x811c9dc5);
  return (hash ^ (hash >>> 16)) & 0xffff;
}

export function storedOf(record: StoredRecord): Stored {
  const { source, params } = record.entry as StoredEntry;
  const marks = Array.isArray(record.marks) ? record.marks : [];
  return { bytes: record.bytes, place: { source, params }, marks, dependencies: dependenciesOf(record) };
}

/** The keys of what a stored composite is made of. None where that is not well formed: then the entry is not restored either. */
function dependenciesOf({ entry }: StoredRecord): ReadonlySet<string> {
  const isComposite = (entry as StoredEntry).parts !== undefined;
  const parts = isComposite ? wellFormed(entry)?.parts : undefined;
  try {
    return parts ? new Set(parts.map(([source, params]) => keyText(source, params))) : none;
  } catch {
    return none; // params that can make no key
  }
}
