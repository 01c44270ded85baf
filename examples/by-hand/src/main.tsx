import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { Board } from "./board.js";
import "../../board-react/src/board.css";

createRoot(document.getElementById("board") as HTMLElement).render(
  <StrictMode>
    <Board />
  </StrictMode>,
);
