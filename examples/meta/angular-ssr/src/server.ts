import { join } from "node:path";
import {
  AngularNodeAppEngine,
  createNodeRequestHandler,
  isMainModule,
  writeResponseToNodeResponse,
} from "@angular/ssr/node";
import express from "express";

const app = express();
const engine = new AngularNodeAppEngine({ allowedHosts: ["127.0.0.1", "localhost"] });
app.use(express.static(join(import.meta.dirname, "../browser"), { index: false, redirect: false }));
app.use(async (request, response, next) => {
  const rendered = await engine.handle(request);
  if (rendered) await writeResponseToNodeResponse(rendered, response);
  else next();
});
if (isMainModule(import.meta.url)) app.listen(Number(process.env.PORT ?? 4000), "127.0.0.1");

export const reqHandler = createNodeRequestHandler(app);
