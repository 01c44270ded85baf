import { Board } from "../../examples/by-hand/src/board.js";
import { watched } from "./frames.js";

watched(<Board />);
