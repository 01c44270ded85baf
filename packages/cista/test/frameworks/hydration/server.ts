import type { ServerResponse } from "node:http";
import { createCache } from "cista";
import { openPage, type ServerPage } from "cista/server";
import { dataFrom } from "../../page/data.js";
import type { Visit } from "../../page/server.js";
import { sides } from "./sides.js";

export { dataFrom };

/** The page of one framework, in one go when all of it has come. */
export function render(framework: string, { names, options }: Visit, response: ServerResponse): ServerPage {
  const cache = createCache({ retry: false });
  const page = openPage(cache, { timeout: "60s", ...options }); // however busy the machine is
  response.on("close", () => page.close());
  const write = async () => {
    const side = await sides[framework]?.();
    const html = await side?.html(cache, names, page);
    const script = '<script type="module" src="/client.ts"></script>';
    response.end(`<html data-framework="${framework}"><body>${html}${page.html()}${script}</body></html>`);
  };
  write().catch((thrown) => response.writeHead(500).end(String(thrown)));
  return page;
}
