/**
 * Virtual time, a virtual page, sources that misbehave, and the journal as text: for tests and for trying things.
 * @module cista/rehearsal
 */

export { type CacheForTest, cacheForTest } from "./for-tests.js";
export { type JournalRecorder, journalLine, recordJournal } from "./recorder.js";
export { type Mishap, type Rehearsal, type RehearsalOptions, rehearse } from "./rehearse.js";
export {
  type StandInAnswer,
  type StandInRequest,
  type StandInServer,
  standInServer,
} from "./stand-in-server.js";
export type { VirtualClock, VirtualEnvironment } from "./virtual.js";
export { virtualClock, virtualEnvironment } from "./virtual.js";
