export { someNight } from "@cista/example-board-shared";
export { onlyFromHere, startOrigin } from "@cista/example-origin";
export { invalidateAfter } from "cista/http";
export { cacheFor } from "./data.js";
export { joinFleet, share } from "./fleet.js";

import type { ServerResponse } from "node:http";
import type { Duration } from "cista";
import { openPage } from "cista/server";
import { renderToPipeableStream } from "react-dom/server";
import { Page } from "./app.js";
import { cacheFor } from "./data.js";
import { share } from "./fleet.js";
import { noteFailure } from "./log.js";

export interface Visit {
  readonly walker: string;
  readonly cookie: string;
  readonly chosen: string | undefined;
  readonly scripts: readonly string[];
  readonly styles: readonly string[];
}

/** Renders the page for one request, streaming, with a cache of its own. */
export function render({ walker, cookie, chosen, scripts, styles }: Visit, response: ServerResponse): void {
  const cache = cacheFor({ cookie });
  share(cache);
  const timeout = (process.env.PAGE_TIMEOUT ?? "5s") as Duration;
  const page = openPage(cache, { noStore: true, timeout }); // it holds one walker's basket
  response.on("close", () => page.close());
  response.setHeader("content-type", "text/html; charset=utf-8");
  response.setHeader("cache-control", "no-store");
  const tree = <Page cache={cache} walker={walker} chosen={chosen} styles={styles} />;
  const { pipe, abort } = renderToPipeableStream(tree, {
    bootstrapModules: [...scripts],
    onShellReady: () => pipe(page.into(response)),
    onShellError: (thrown) => {
      response.statusCode = 500;
      response.end("The page could not be rendered.");
      noteFailure(thrown);
    },
    onError: (thrown) => {
      if (!response.destroyed) noteFailure(thrown);
    },
  });
  response.on("close", () => abort());
}
