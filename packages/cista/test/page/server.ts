import type { ServerResponse } from "node:http";
import { createCache } from "cista";
import { openPage, type PageOptions, type ServerPage } from "cista/server";
import { createElement } from "react";
import { renderToPipeableStream, renderToString } from "react-dom/server";
import { renderToReadableStream } from "react-dom/server.browser";
import { App } from "./app.js";
import { dataFrom, value } from "./data.js";

// The server's half of the page of page.e2e.test.ts: bundled once with each React, in each flavour.

export { dataFrom };

/** Streamed by Node's streams or by the web's; or in one go, when all that a loader asked for is there. */
export type Renderer = "node" | "web" | "string";

export interface Visit {
  readonly names: readonly string[];
  readonly renderer: Renderer;
  readonly options: PageOptions;
  readonly nonce: string | undefined;
}

export function render({ names, renderer, options, nonce }: Visit, response: ServerResponse): ServerPage {
  const cache = createCache({ retry: false });
  const page = openPage(cache, { timeout: "60s", ...options }); // however busy the machine is
  response.on("close", () => page.close());
  const root = createElement("div", { id: "root" }, createElement(App, { cache, names }));
  const tree = createElement("html", null, createElement("body", null, root));
  const bootstrapModules = ["/client.js"];
  if (renderer === "node") {
    const onShellReady = () => pipe(page.into(response));
    const { pipe } = renderToPipeableStream(tree, { bootstrapModules, ...(nonce ? { nonce } : {}), onShellReady });
  } else if (renderer === "web") {
    void renderToReadableStream(tree, { bootstrapModules }).then(async (html) => {
      for await (const chunk of page.through(html as ReadableStream<Uint8Array>)) response.write(chunk);
      response.end();
    });
  } else {
    const loaded = names.flatMap((name) => name.split("+")).map((name) => page.show(value, name));
    void Promise.all(loaded).then(() => {
      const html = renderToString(root);
      response.end(`<html><body>${html}${page.html()}<script type="module" src="/client.js"></script></body></html>`);
    });
  }
  return page;
}
