/** Where restored entries stand in their snapshot: by key. */
import { type Restored, type StoredEntry, wellFormed } from "../../api/stored.js";
import { keyText } from "../../lib/key.js";

export type Part = readonly [source: string, params?: unknown];

/** Undefined for params that can make no key. */
export function keyOf([source, params]: Part): string | undefined {
  try {
    return keyText(source, params);
  } catch {
    return undefined;
  }
}

/** Finds well-formed entries by their keys. Most snapshots are never searched. */
export function byKey(entries: readonly unknown[]): Restored["beside"] {
  let found: Map<string, StoredEntry> | undefined;
  return (key) => {
    found ??= new Map(entries.flatMap((raw) => placed(wellFormed(raw))));
    return found.get(key);
  };
}

function placed(stored: StoredEntry | undefined): [key: string, stored: StoredEntry][] {
  const key = stored && keyOf([stored.source, stored.params]);
  return key === undefined ? [] : [[key, stored as StoredEntry]];
}
