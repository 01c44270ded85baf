// A server whose page of a hundred huts is made by hand, or on a cache; in a process of its own, whose heap it tells.
import { createServer } from "node:http";
import { handInOneGo, keptInOneGo } from "../cases/page.mjs";

const ways = { "/hand": handInOneGo, "/cista": keptInOneGo };

const server = createServer(async (request, response) => {
  const make = ways[request.url];
  if (!make) return response.writeHead(404).end();
  const html = await make();
  response.writeHead(200, { "content-type": "text/html", "content-length": Buffer.byteLength(html) }).end(html);
});
server.listen(0, "127.0.0.1", () => process.send({ port: server.address().port }));

process.on("message", () => {
  globalThis.gc();
  globalThis.gc();
  process.send({ heap: process.memoryUsage().heapUsed });
});
