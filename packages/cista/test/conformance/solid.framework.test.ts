import { solid } from "./drivers/solid.solid.js";
import { conformance } from "./suite.js";

conformance(solid);
