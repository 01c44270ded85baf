import { CistaProvider } from "cista/react";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { App } from "./app.js";
import { cache } from "./sources.js";
import "./workshop.css";

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <CistaProvider cache={cache}>
        <App />
      </CistaProvider>
    </StrictMode>,
  );
}
