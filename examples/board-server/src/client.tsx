import { receivePage } from "cista/browser";
import { hydrateRoot } from "react-dom/client";
import { Page } from "./app.js";
import { cacheFor } from "./data.js";
import "@cista/example-board-shared/board.css";

const cache = cacheFor();
await receivePage(cache); // the first of what came with the page is there
const { walker = "", chosen, styles } = document.documentElement.dataset;
const page = <Page cache={cache} walker={walker} chosen={chosen} styles={styles ? styles.split(" ") : []} />;
hydrateRoot(document, page);
