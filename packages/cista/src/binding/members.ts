import type { AnyReading, Members } from "../core/doors/readings.js";
import type { Reading } from "../core/index.js";

const all: Record<keyof Members, true> = {
  key: true,
  state: true,
  value: true,
  provisional: true,
  fresh: true,
  asOf: true,
  failure: true,
  pendingWrites: true,
  request: true,
};

/** The members of a reading that are its own: those that a copy of it has. */
export const ownMembers: readonly (keyof Members)[] = Object.keys(all) as (keyof Members)[];

/** These, and its methods. */
export type Member = keyof Members | "revalidate";
export const members: readonly Member[] = [...ownMembers, "revalidate"];

/** Names the method that notes a look at one member, and returns the reading. */
export const look: unique symbol = Symbol("look");

/** Called when a member of a reading is looked at. */
export interface Looked {
  [look](member: Member): AnyReading;
}

/**
 * A reading that tells of each look at it. Its members are its own: code that copies it, writes it as text or goes through it
 * looks at all of it. A proxy, because nine accessors take fifty times as long to make.
 */
export function readingOf(looked: Looked): Reading<any> {
  return new Proxy(looked, handler) as unknown as Reading<any>;
}

const isOwn = (name: string | symbol): name is keyof Members => typeof name === "string" && Object.hasOwn(all, name);
const isMember = (name: string | symbol): name is Member => name === "revalidate" || isOwn(name);

const handler: ProxyHandler<Looked> = {
  get: (looked, name) => (isMember(name) ? looked[look](name)[name] : Reflect.get(looked, name)),
  has: (looked, name) => isMember(name) || Reflect.has(looked, name),
  ownKeys: () => ownMembers as string[],
  getOwnPropertyDescriptor(looked, name) {
    if (!isOwn(name)) return Reflect.getOwnPropertyDescriptor(looked, name);
    return { configurable: true, enumerable: true, get: () => looked[look](name)[name] }; // asking for names is no look
  },
  set: () => false,
};
