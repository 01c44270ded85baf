/** @jsxImportSource solid-js */
import { boardCache } from "@cista/example-board-shared";
import { CistaProvider } from "cista/solid";
import { render } from "solid-js/web";
import { App } from "./app.jsx";
import "@cista/example-board-shared/board.css";

const cache = boardCache();
const root = document.getElementById("app");
if (root) {
  render(
    () => (
      <CistaProvider cache={cache}>
        <App />
      </CistaProvider>
    ),
    root,
  );
}
