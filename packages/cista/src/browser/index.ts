export { pageEnvironment } from "./environment.js";
