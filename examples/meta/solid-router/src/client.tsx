import { createCache } from "cista";
import { receivePage } from "cista/browser";
import { hydrate } from "solid-js/web";
import { App } from "./app";

const cache = createCache();
await receivePage(cache);
hydrate(() => <App cache={cache} />, document.getElementById("app") as HTMLElement);
