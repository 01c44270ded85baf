// `npm run fleet`: the board as four processes behind nginx, sharing what they fetch through Redis, under a made-up load.
// Prints what the origin saw, beside the same load without sharing. `--stay` goes on, for `cista fleet watch`.
import { fork, spawn } from "node:child_process";
import { once } from "node:events";
import { chmodSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { createServer } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { serve } from "@hono/node-server";
import { Hono } from "hono";
import { dataServer } from "../api.mjs";

const here = fileURLToPath(new URL(".", import.meta.url));
const processes = 4;
const after = (milliseconds) => new Promise((resolve) => setTimeout(resolve, milliseconds));

/**
 * @param options paths of nginx and redis-server, and the environment that both are started in
 * @returns what there is to be ended, and the addresses
 */
export async function startFleet({
  nginx,
  redisServer,
  env: programEnv = process.env,
  isShared = true,
  slow = () => after(100),
}) {
  const folder = mkdtempSync(join(tmpdir(), "cista-fleet-"));
  chmodSync(folder, 0o755); // nginx's workers are not whoever runs this
  const asked = [];
  const ends = [() => rmSync(folder, { recursive: true, force: true })];
  const close = async () => {
    for (const end of ends.reverse()) await end();
  };
  try {
    const { onlyFromHere, startOrigin, someNight } = await import("../dist/server/server.js");
    const data = await dataServer({ startOrigin, slow, onAsked: (method, path) => asked.push(`${method} ${path}`) });
    const dataPort = await freePort();
    const guarded = new Hono().use(onlyFromHere(false)).route("/", data.app);
    const dataHttp = serve({ fetch: guarded.fetch, port: dataPort, hostname: "127.0.0.1" });
    ends.push(
      () => data.close(),
      () => endServer(dataHttp),
    );
    const address = `http://127.0.0.1:${dataPort}`;

    const redis = isShared ? await freePort() : undefined;
    if (isShared) ends.push(await startRedis(redisServer, redis, programEnv));

    const ports = await Promise.all(
      Array.from({ length: processes }, async (_, n) => {
        const more = isShared ? { FLEET_REDIS: `redis://127.0.0.1:${redis}` } : {};
        const env = {
          ...process.env,
          BOARD_ADDRESS: address,
          NODE_ENV: "production",
          FLEET_TITLE: `board ${n + 1}`,
          ...more,
        };
        const worker = fork(join(here, "worker.mjs"), { env, stdio: ["ignore", "ignore", "inherit", "ipc"] });
        ends.push(() => ended(worker));
        const [{ port }] = await once(worker, "message");
        return port;
      }),
    );
    const port = await freePort();
    ends.push(await startNginx({ nginx, env: programEnv, folder, port, ports, dataPort }));
    return { url: `http://127.0.0.1:${port}`, night: someNight, redisUrl: `redis://127.0.0.1:${redis}`, asked, close };
  } catch (thrown) {
    await close();
    throw thrown;
  }
}

async function startRedis(redisServer, port, env) {
  const quiet = ["--save", "", "--appendonly", "no", "--loglevel", "warning"];
  const redis = spawn(redisServer, ["--port", String(port), "--bind", "127.0.0.1", ...quiet], { stdio: "ignore", env });
  const { Redis } = await import("ioredis");
  const client = new Redis(port, { retryStrategy: () => 20, maxRetriesPerRequest: null });
  client.on("error", () => {});
  await client.ping();
  client.disconnect();
  return () => ended(redis);
}

/** Pages and writes go to the processes in turns, reads of the browser to the data's server, files from the build. */
async function startNginx({ nginx, env, folder, port, ports, dataPort }) {
  const temporary = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"]
    .map((name) => `${name}_temp_path ${folder}/${name};`)
    .join(" ");
  const config = join(folder, "nginx.conf");
  writeFileSync(
    config,
    `daemon off; pid ${folder}/pid; error_log ${folder}/errors; worker_processes 1; events {}
     http {
       ${temporary} access_log off; proxy_buffering off; proxy_http_version 1.1;
       types { text/javascript js; text/css css; text/html html; }
       upstream board { ${ports.map((each) => `server 127.0.0.1:${each};`).join(" ")} }
       server {
         listen 127.0.0.1:${port};
         proxy_set_header Host $host:$server_port;
         location /assets/ { root ${join(here, "../dist/client")}; }
         location / { proxy_pass http://board; }
         location /api/ {
           if ($request_method = GET) { proxy_pass http://127.0.0.1:${dataPort}; }
           proxy_pass http://board;
         }
       }
     }`,
  );
  const running = spawn(nginx, ["-e", join(folder, "errors"), "-p", folder, "-c", config], { stdio: "ignore", env });
  while (!(await fetch(`http://127.0.0.1:${port}/api/huts`).catch(() => undefined))) {
    if (running.exitCode !== null) throw new Error("nginx did not start.");
    await after(20);
  }
  return () => ended(running);
}

async function ended(child) {
  if (child.exitCode !== null || child.signalCode !== null) return;
  const end = once(child, "exit");
  if (child.connected) child.disconnect();
  else child.kill();
  await end;
}

async function endServer(server) {
  const end = new Promise((resolve) => server.close(resolve));
  server.closeAllConnections?.();
  await end;
}

async function freePort() {
  const server = createServer().listen(0, "127.0.0.1");
  await once(server, "listening");
  const { port } = server.address();
  server.close();
  await once(server, "close");
  return port;
}

/** So many visits at once, each to one of ten huts, by two walkers in turns. @returns how many pages were whole, and how long it took */
export async function visit(url, visits, atOnce = 20) {
  let next = 0;
  let whole = 0;
  const began = performance.now();
  const one = async () => {
    for (let n = next++; n < visits; n = next++) {
      const id = `h-${String(1 + (n % 10)).padStart(2, "0")}`;
      const walker = n % 2 ? "Ash" : "Wren";
      const response = await fetch(`${url}/hut/${id}`, { headers: { cookie: `walker=${walker}` } });
      const text = (await response.text()).replaceAll("<!-- -->", "");
      const other = walker === "Ash" ? "Wren:" : "Ash:";
      if (response.ok && text.includes("bunks free") && text.includes(`${walker}:`) && !text.includes(other)) whole++;
    }
  };
  await Promise.all(Array.from({ length: atOnce }, one));
  return { whole, took: Math.round(performance.now() - began) };
}

export async function book(url, hut, night) {
  const headers = { cookie: "walker=Wren", "content-type": "application/json" };
  return fetch(`${url}/api/basket`, { method: "POST", headers, body: JSON.stringify({ hut, night }) });
}

/** What the origin was asked since the last call, but for the baskets, which are each walker's own. */
export function askedOf(fleet) {
  const shared = fleet.asked.filter((each) => !each.includes("/api/basket"));
  const baskets = fleet.asked.length - shared.length;
  fleet.asked.length = 0;
  return { shared: shared.length, baskets };
}
