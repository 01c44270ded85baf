/** Readings, for the bindings that show them, and the functions that a binding needs beside them. A door for the library's other rooms: see scripts/rooms.mjs. */
export { type AnyReading, type Members, makeEmpty, makeReading, nothing, readingWith } from "../api/reading.js";
export { wasJustMade } from "../api/source.js";
export { userCountIn } from "../kernel/users.js";
export { changeInterval } from "../kernel/view.js";
export { picked } from "../lib/picking.js";
export { definedElsewhere, tellWithin } from "../state/core.js";
