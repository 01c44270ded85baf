import { createCache } from "cista";
import { openPage, type ServerPage } from "cista/server";
import { generateHydrationScript, renderToStream } from "solid-js/web";
import { App } from "./app";
import { hut } from "./sources";

export const head: () => string = () => generateHydrationScript();

/** A page for one request. `write` is given each piece of the document's body, with its values. */
export async function render(url: string, cookie: string | undefined) {
  const cache = createCache({ context: { cookie } });
  const page = openPage(cache);
  return { page, status: await statusOf(page, url), stream: renderToStream(() => <App cache={cache} url={url} />) };
}

async function statusOf(page: ServerPage, url: string): Promise<number> {
  const id = /^\/hut\/([^/?]+)/.exec(url)?.[1];
  if (!id) return 200;
  const { state } = await page.show(hut, { id: decodeURIComponent(id) });
  return state === "missing" ? 404 : 200;
}
