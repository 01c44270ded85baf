import { readFileSync } from "node:fs";
import express from "express";
import { head, render } from "./dist/server/server.js";

const manifest = JSON.parse(readFileSync("dist/client/.vite/manifest.json", "utf8"));
const script = `/${manifest["src/client.tsx"].file}`;
const app = express();
app.use("/assets", express.static("dist/client/assets"));
app.use(async (request, response) => {
  const { page, status, stream } = await render(request.originalUrl, request.headers.cookie);
  response.on("close", () => page.close());
  response.status(status).type("html");
  response.write(
    `<!doctype html><html lang="en"><head><meta charset="utf-8"><title>Huts</title>${head()}<script type="module" src="${script}" async></script></head><body><div id="app">`,
  );
  let isShell = true;
  stream.pipe({
    write(piece) {
      response.write(isShell ? `${piece}</div>${page.html()}` : piece + page.html());
      isShell = false;
    },
    end: () => response.end(`${page.html()}</body></html>`),
  });
});
app.listen(Number(process.env.PORT ?? 3000), "127.0.0.1");
