/** A page that goes from a server to a browser, with its values. A door for the library's other rooms: see scripts/rooms.mjs. */
export { expectWithPage } from "../features/storing/restoring.js";
export { emptyReadingOf, pageClass, type Rendering, renderingOf, setRendering } from "../state/rendering.js";
