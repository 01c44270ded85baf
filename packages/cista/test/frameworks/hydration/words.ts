import type { Reading } from "cista";

/** All of a reading that a page shows, its moment too: where the clocks differ, so would the words. */
export function inWords(name: string, { state, value, fresh, asOf }: Reading<{ text: string }>): string {
  return `${name}: ${state} ${value?.text ?? ""} ${fresh} ${asOf}`;
}
