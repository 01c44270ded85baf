import { svelte } from "./drivers/svelte/driver.svelte.js";
import { conformance } from "./suite.js";

conformance(svelte);
