/** Entries that leave a cache, and those that come in from elsewhere: stores, tabs, pages, fleets. A door for the library's other rooms: see scripts/rooms.mjs. */
export type { Change, PlainSelector } from "../api/seams.js";
export { type StoredEntry, wellFormed } from "../api/stored.js";
export { onChange } from "../features/changing/change-listeners.js";
export {
  adoptChange,
  adoptEntry,
  ageOf,
  doubtPending,
  foreignKeys,
  isForHere,
} from "../features/storing/adopting.js";
export { groupsOf, meansStored, plainSelector } from "../features/storing/plain-selector.js";
export { restoreWith } from "../features/storing/restoring.js";
export { detailsOf, isMadeOfOthers, snapshotWith, staysHere, storedUnder } from "../features/storing/snapshot.js";
export { onUserChanged } from "../kernel/users.js";
