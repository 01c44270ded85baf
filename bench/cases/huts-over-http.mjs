// A server of huts, in a process of its own: `withHutServer` starts it, and ends it.
import { fork } from "node:child_process";
import { once } from "node:events";
import { createServer } from "node:http";
import { fileURLToPath } from "node:url";

const serves = "serve huts";

/** @param work gets the server's address */
export async function withHutServer(work) {
  const child = fork(fileURLToPath(import.meta.url), [serves], { execArgv: [] });
  const [port] = await once(child, "message");
  try {
    return await work(`http://127.0.0.1:${port}`);
  } finally {
    child.kill();
  }
}

if (process.argv[2] === serves) {
  const server = createServer((request, response) => {
    const id = request.url.split("/").pop();
    const etag = `"${id}"`;
    const fields = { etag, "cache-control": "max-age=60" };
    if (request.headers["if-none-match"] === etag) return response.writeHead(304, fields).end();
    const body = JSON.stringify({ id, name: `Hut ${id}`, water: Number(id) * 3, warden: "Fenn Oakley" });
    response.writeHead(200, {
      ...fields,
      "content-type": "application/json",
      "content-length": Buffer.byteLength(body),
    });
    response.end(body);
  });
  server.listen(0, "127.0.0.1", () => process.send(server.address().port));
}
