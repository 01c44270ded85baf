/** A number as it takes the least room. */

/** Engines give a small integer no space of its own in an object, but for one that was reckoned from large or broken numbers they do. */
export function asSmallInteger(number: number): number {
  const small = number | 0;
  return small === number ? small : number;
}
