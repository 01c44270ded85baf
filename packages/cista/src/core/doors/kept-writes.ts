/** Writes that are kept until they have been sent. A door for the library's other rooms: see scripts/rooms.mjs. */
export { sendLater, type WriteKeeper } from "../api/seams.js";
export { type LaidWrite, layWrite, setKeeper } from "../features/writing/laying.js";
