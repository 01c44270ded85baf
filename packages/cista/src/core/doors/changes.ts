/** Changes that an answer makes to other entries. A door for the library's other rooms: see scripts/rooms.mjs. */
export { invalidateSelected, patchByPart } from "../features/changing/changing.js";
