import { createCache, journalOf } from "cista";
import { receivePage } from "cista/browser";
import { createElement } from "react";
import { hydrateRoot } from "react-dom/client";
import { App } from "./app.js";
import { dataFrom } from "./data.js";

dataFrom(location.origin);
const cache = createCache({ retry: false });
const events: string[] = [];
const errors: string[] = [];
journalOf(cache).subscribe(({ kind, key, cause }) => events.push(`${kind} ${key} ${cause ?? ""}`));
Object.assign(globalThis, { cache, events, errors });
await receivePage(cache);
const root = document.getElementById("root");
const names = new URLSearchParams(location.search).get("parts")?.split(",") ?? [];
if (root) {
  hydrateRoot(root, createElement(App, { cache, names }), {
    onRecoverableError: (thrown) => errors.push(String(thrown)),
  });
}
