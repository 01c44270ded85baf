import { vue } from "./drivers/vue/driver.js";
import { conformance } from "./suite.js";

conformance(vue);
