import { type ChildProcess, spawn } from "node:child_process";
import { once } from "node:events";
import { chmodSync, mkdtempSync, rmSync, statSync, utimesSync, writeFileSync } from "node:fs";
import { createServer } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { entriesOf } from "cista";
import { origin } from "cista/http";
import { afterAll, beforeAll, expect, test } from "vitest";
import { nginxPath } from "../../../scripts/nginx.mjs";
import { stageWithServer } from "./stage.js";

// A server that we have not written, serving files with validators of its own.
let folder: string;
let nginx: ChildProcess;
let base: string;
const file = () => join(folder, "hut.json");

beforeAll(async () => {
  folder = mkdtempSync(join(tmpdir(), "cista-nginx-"));
  chmodSync(folder, 0o755); // nginx's workers are not whoever runs the tests
  const port = await freePort();
  base = `http://127.0.0.1:${port}`;
  write({ name: "Harebell Hut", water: 90 }, 1_000_000);
  const temporary = ["client_body", "proxy", "fastcgi", "uwsgi", "scgi"]
    .map((name) => `${name}_temp_path ${folder}/${name};`)
    .join(" ");
  // nginx empties its environment. Without these it would go by today's date after ten seconds of a test of another day.
  const kept = "env FAKETIME; env FAKETIME_SHARED; env LD_PRELOAD;";
  writeFileSync(
    join(folder, "nginx.conf"),
    `daemon off; pid ${folder}/pid; error_log ${folder}/errors; ${kept} events {}
     http {
       ${temporary} access_log off; types { application/json json; }
       server {
         listen 127.0.0.1:${port}; root ${folder};
         location / { add_header Cache-Control "max-age=60"; }
         location /dated/ { alias ${folder}/; etag off; expires 1m; }
       }
     }`,
  );
  const args = ["-e", join(folder, "errors"), "-p", folder, "-c", join(folder, "nginx.conf")];
  nginx = spawn(nginxPath() ?? "nginx", args);
  while (!(await fetch(`${base}/hut.json`).catch(() => undefined))) {
    if (nginx.exitCode !== null) throw new Error("nginx did not start.");
    await new Promise((resolve) => setTimeout(resolve, 20));
  }
});
afterAll(async () => {
  const ended = once(nginx, "exit");
  nginx.kill();
  await ended;
  rmSync(folder, { recursive: true });
});

/** @param at seconds since the epoch: what nginx makes its validators of */
function write(hut: object, at: number): void {
  writeFileSync(file(), JSON.stringify(hut));
  utimesSync(file(), at, at);
}

test.each([
  ["by its ETag", "/hut.json"],
  ["by its date alone", "/dated/hut.json"],
])("nginx, %s: a 304 is seen as such, a change is seen", async (_how, url) => {
  write({ name: "Harebell Hut", water: 90 }, 1_000_000);
  const { cache, clock, events } = stageWithServer();
  const hut = origin({ base }).source<void, any>({ name: "hut", url });
  const first = await cache.read(hut);
  expect([...entriesOf(cache)][0]?.staleAt).toBe(clock.now() + 60_000);

  clock.jump(61_000);
  expect(await cache.read(hut, undefined, { cache: "no-cache" })).toBe(first);
  expect(events.at(-1)).toMatchObject({ kind: "unchanged", cacheStatus: expect.stringContaining("fwd-status=304") });

  write({ name: "Harebell Hut", water: 55 }, statSync(file()).mtimeMs / 1000 + 60);
  expect(await cache.read(hut, undefined, { cache: "no-cache" })).toEqual({ name: "Harebell Hut", water: 55 });
  rmSync(file());
  await expect(cache.read(hut, undefined, { cache: "no-cache" })).rejects.toMatchObject({ kind: "missing" });
});

async function freePort(): Promise<number> {
  const server = createServer().listen(0, "127.0.0.1");
  await once(server, "listening");
  const { port } = server.address() as { port: number };
  server.close();
  await once(server, "close");
  return port;
}
