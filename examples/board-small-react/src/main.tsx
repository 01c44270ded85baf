import { boardCache } from "@cista/example-board-shared";
import { CistaProvider } from "cista/react";
import { createRoot } from "react-dom/client";
import { App } from "./app.js";
import "@cista/example-board-shared/board.css";

const cache = boardCache();
const root = document.getElementById("app");
if (root) {
  createRoot(root).render(
    <CistaProvider cache={cache}>
      <App />
    </CistaProvider>,
  );
}
