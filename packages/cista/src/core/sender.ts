/** For those who load it when they need it: what sends writes, and nothing else. */
export { runWrite } from "./operations/sending.js";
