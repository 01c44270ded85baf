import { angular } from "./drivers/angular.js";
import { conformance } from "./suite.js";

conformance(angular);
