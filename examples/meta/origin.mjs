// An API of made-up huts, which counts who asks: the application's server, or the browser. It stands in front of the application, as
// a site's own web server would: `/api` is its own, and the rest is passed on.
import { createServer, request } from "node:http";

const names = ["Harebell Hut", "Tarn Shelf", "Cairn Hut"];
const later = (ms) => new Promise((resolve) => setTimeout(resolve, ms));

/** @param appPort where the application listens */
export async function startOrigin(appPort) {
  const huts = names.map((name, at) => ({ id: `h-0${at + 1}`, name, starred: false }));
  let asked = [];
  const answers = {
    "/api/huts": () => ["max-age=30", { huts }],
    "/api/me": (visitor) => ["private, max-age=60", { name: visitor }],
    "/api/basket": (visitor) => ["no-store", { nights: `${visitor}'s 3 nights` }],
    "/api/notices": () => ["max-age=30", { text: "Bridge out at Slate Beck" }],
  };

  async function answer(incoming) {
    const { url, method, headers } = incoming;
    const by = headers["user-agent"]?.startsWith("Mozilla") ? "browser" : "server";
    asked.push({ by, what: `${method === "GET" ? "" : `${method} `}${url.slice("/api/".length)}` });
    await later(url === "/api/notices" ? 600 : 30);
    const visitor = /visitor=(\w+)/.exec(headers.cookie ?? "")?.[1] ?? "nobody";
    if (answers[url]) return [200, ...answers[url](visitor)];
    const [, id, star] = /^\/api\/huts\/([^/]+)(\/star)?$/.exec(url) ?? [];
    const hut = huts.find((each) => each.id === id);
    if (!hut) return [404, "max-age=30", { title: "No such hut" }];
    if (star) {
      let body = "";
      for await (const piece of incoming) body += piece;
      hut.starred = JSON.parse(body).starred;
      await later(200);
    }
    return [200, "max-age=60", hut];
  }

  const server = createServer(async (incoming, outgoing) => {
    if (incoming.url === "/favicon.ico") return outgoing.writeHead(204).end();
    if (!incoming.url.startsWith("/api/")) return passOn(incoming, outgoing, appPort);
    const [status, caching, body] = await answer(incoming);
    outgoing.writeHead(status, { "content-type": "application/json", "cache-control": caching });
    outgoing.end(JSON.stringify(body));
  });
  await new Promise((resolve) => server.listen(0, "127.0.0.1", resolve));
  return {
    url: `http://127.0.0.1:${server.address().port}`,
    countAsked: () => asked.length,
    /** What was asked since it was last called, by the server and by the browser. */
    takeAsked() {
      const by = (who) => asked.filter((each) => each.by === who).map(({ what }) => what);
      const all = { server: by("server").sort(), browser: by("browser").sort() };
      asked = [];
      return all;
    },
    close: () => new Promise((resolve) => server.close(resolve)).then(server.closeAllConnections()),
  };
}

function passOn(incoming, outgoing, port) {
  const { url: path, method, headers } = incoming;
  // A connection of its own: the application may end one that is idle just when it is used again.
  const on = request({ host: "127.0.0.1", port, path, method, headers, agent: false }, (came) => {
    outgoing.writeHead(came.statusCode, came.headers);
    came.pipe(outgoing);
  });
  on.on("error", () => outgoing.writeHead(502).end());
  outgoing.on("close", () => on.destroy());
  incoming.pipe(on);
}
