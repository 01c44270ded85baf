export { type JournalRecorder, journalLine, recordJournal } from "./recorder.js";
export type { VirtualClock, VirtualEnvironment } from "./virtual.js";
export { virtualClock, virtualEnvironment } from "./virtual.js";
