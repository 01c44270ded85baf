import { createCache } from "cista";
import { openPage } from "cista/server";
import { renderToString } from "react-dom/server";
import { chosen, night, region, Sheet } from "./app.js";
import { bunks, hut, huts } from "./data.js";

/** The whole file. Its values are as old as the clocks say when somebody opens it. */
export async function renderSheet(script: string, styles: readonly string[]): Promise<string> {
  const cache = createCache();
  const page = openPage(cache, { reusable: true });
  await Promise.all([page.show(hut, chosen), page.show(bunks, night), page.show(huts, region)]);
  const body = renderToString(<Sheet cache={cache} />);
  const html = `<!doctype html>
<html lang="en">
  <head>
    <meta charset="utf-8" />
    <meta name="viewport" content="width=device-width, initial-scale=1" />
    <title>Sheet of the day</title>
    <link rel="icon" href="data:," />
    ${styles.map((href) => `<link rel="stylesheet" href="${href}" />`).join("\n    ")}
  </head>
  <body>
    <div id="sheet" class="board">${body}</div>
    ${page.html()}
    <script type="module" src="${script}"></script>
  </body>
</html>
`;
  for (const [key, { message }] of page.left) console.warn(`Not on the page: ${key}: ${message}`);
  page.close();
  return html;
}
