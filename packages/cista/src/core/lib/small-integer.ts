/** Numbers as engines store them in the least space. */

/** A small integer is stored in its object. The result of large or fractional numbers is stored beside the object, also where it is small and whole. */
export function asSmallInteger(number: number): number {
  const small = number | 0;
  return small === number ? small : number;
}
