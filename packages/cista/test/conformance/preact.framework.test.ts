import { preact } from "./drivers/preact.js";
import { conformance } from "./suite.js";

conformance(preact);
