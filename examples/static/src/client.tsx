import { createCache } from "cista";
import { receivePage } from "cista/browser";
import { hydrateRoot } from "react-dom/client";
import { Sheet } from "./app.js";
import "@cista/example-board-shared/board.css";

const cache = createCache();
await receivePage(cache);
hydrateRoot(document.getElementById("sheet") as HTMLElement, <Sheet cache={cache} />);
