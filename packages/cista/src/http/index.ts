export type { HttpSourceDefinition, Origin, OriginOptions, Url } from "./origin.js";
export { origin } from "./origin.js";
