/** Objects without the members that are undefined. */

type Optional<T> = undefined extends T ? (unknown extends T ? false : true) : false;
type Given<T> = { [K in keyof T as Optional<T[K]> extends true ? never : K]: T[K] } & {
  [K in keyof T as Optional<T[K]> extends true ? K : never]?: Exclude<T[K], undefined>;
};

/**
 * The same object without the members that are `undefined`.
 * @internal
 */
export function omitUndefined<const T extends object>(members: T): Given<T> {
  const given: Record<string, unknown> = {};
  for (const name of Object.keys(members)) {
    const member = (members as Record<string, unknown>)[name];
    if (member !== undefined) given[name] = member;
  }
  return given as Given<T>;
}
