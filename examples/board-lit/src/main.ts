import { boardCache } from "@cista/example-board-shared";
import { provideCache } from "cista/lit";
import "@cista/example-board-shared/board.css";

provideCache(document.body, boardCache());
await import("./elements.js"); // elements ask for the cache as they are connected
