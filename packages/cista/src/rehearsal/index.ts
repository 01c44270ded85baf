export { type JournalRecorder, journalLine, recordJournal } from "./recorder.js";
export { type Mishap, type Rehearsal, type RehearsalOptions, rehearse } from "./rehearse.js";
export type { VirtualClock, VirtualEnvironment } from "./virtual.js";
export { virtualClock, virtualEnvironment } from "./virtual.js";
