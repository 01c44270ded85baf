import { lit } from "./drivers/lit.js";
import { conformance } from "./suite.js";

conformance(lit);
