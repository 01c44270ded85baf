import { react } from "./drivers/react.js";
import { conformance } from "./suite.js";

conformance(react);
