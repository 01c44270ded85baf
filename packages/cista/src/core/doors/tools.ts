/** Tools that know nothing of a cache. A door for the library's other rooms: see scripts/rooms.mjs. */
export { milliseconds } from "../api/duration.js";
export { freezeDeep } from "../lib/freeze.js";
export { isJson, jsonOf } from "../lib/json.js";
export { keyText, textHash } from "../lib/key.js";
export { omitUndefined } from "../lib/omit-undefined.js";
export { share } from "../lib/share.js";
export { forBoth } from "../state/extra.js";
