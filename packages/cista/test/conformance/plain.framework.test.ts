import { plain } from "./drivers/plain.js";
import { conformance } from "./suite.js";

conformance(plain);
