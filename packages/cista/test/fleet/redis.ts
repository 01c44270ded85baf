import { type ChildProcess, spawn } from "node:child_process";
import { once } from "node:events";
import { mkdtempSync, rmSync } from "node:fs";
import { type AddressInfo, createServer } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import type { RedisLike } from "cista/fleet";
import { Redis } from "ioredis";
import { createClient } from "redis";
import { expect } from "vitest";
import { environmentOfToday } from "../../../../scripts/program.mjs";
import { redisPath } from "../../../../scripts/redis.mjs";

/** A Redis of a test's own, on a port that was free; nothing of it is written down. */
export class RealRedis {
  readonly port: number;
  #process: ChildProcess | undefined;
  readonly #ends: (() => unknown)[] = [];

  constructor(port: number) {
    this.port = port;
  }

  get url(): string {
    return `redis://127.0.0.1:${this.port}`;
  }

  /** @param options of redis-server, such as `--maxmemory` */
  static async start(...options: string[]): Promise<RealRedis> {
    const redis = new RealRedis(await freePort());
    await redis.start(...options);
    return redis;
  }

  async start(...options: string[]): Promise<void> {
    const quiet = ["--save", "", "--appendonly", "no", "--daemonize", "no", "--loglevel", "warning"];
    const address = ["--port", String(this.port), "--bind", "127.0.0.1"];
    const running = spawn(redisPath() ?? "redis-server", [...address, ...quiet, ...options], {
      stdio: "ignore",
      env: environmentOfToday(),
    });
    this.#process = running;
    const admin = new Redis(this.port, { retryStrategy: () => 20, maxRetriesPerRequest: null });
    admin.on("error", () => {});
    const ended = once(running, "exit").then(() => {
      if (this.#process === running) throw new Error("redis-server did not start.");
    });
    await Promise.race([admin.ping(), ended]);
    ended.catch(() => {});
    admin.disconnect();
  }

  /** Its address and that of its cluster's bus, as it says them. */
  async clusterAddress(): Promise<string[]> {
    const said = String(await (await this.admin()).call("CLUSTER", "NODES"));
    return ["127.0.0.1", String(this.port), /@(\d+)/.exec(said)?.[1] ?? ""];
  }

  /** Sends it a signal, as one kills a process, or has it hang. */
  signal(signal: NodeJS.Signals): void {
    this.#process?.kill(signal);
  }

  async kill(): Promise<void> {
    const running = this.#process;
    if (!running) return;
    this.#process = undefined;
    const ended = once(running, "exit");
    running.kill("SIGKILL");
    await ended;
  }

  /** Connected clients, of each of the two that are in common use. */
  async client(kind: "ioredis" | "redis" = "ioredis"): Promise<RedisLike & { sendCommand?: unknown }> {
    if (kind === "ioredis") {
      const client = new Redis(this.port, { retryStrategy: () => 20 });
      client.on("error", () => {});
      this.#ends.push(() => client.disconnect());
      await client.ping();
      return client as unknown as RedisLike;
    }
    const client = createClient({ url: this.url, socket: { reconnectStrategy: () => 20 } });
    client.on("error", () => {});
    this.#ends.push(() => client.destroy());
    await client.connect();
    return client as unknown as RedisLike;
  }

  /** For the test's own questions. */
  async admin(): Promise<Redis> {
    return (await this.client()) as unknown as Redis;
  }

  async end(): Promise<void> {
    for (const end of this.#ends.splice(0)) end();
    await this.kill();
  }
}

/** Three of them, as a cluster. */
export async function startCluster(): Promise<{ readonly ports: readonly number[]; end(): Promise<void> }> {
  const folder = mkdtempSync(join(tmpdir(), "cista-cluster-"));
  const nodes = await Promise.all(
    ["a", "b", "c"].map(async (name) => {
      const bus = [
        "--cluster-port",
        String(await freePort()),
        "--cluster-config-file",
        `${name}.conf`,
        "--dir",
        folder,
      ];
      return RealRedis.start("--cluster-enabled", "yes", ...bus);
    }),
  );
  const admins = await Promise.all(nodes.map((node) => node.admin()));
  const [first, ...others] = admins;
  for (const [n, admin] of admins.entries()) {
    const [from, to] = [n, n + 1].map((part) => Math.floor((part * 16_384) / 3));
    await admin.call("CLUSTER", "ADDSLOTSRANGE", String(from), String((to ?? 0) - 1));
    await admin.call("CLUSTER", "SET-CONFIG-EPOCH", String(n + 1));
  }
  const addresses = await Promise.all(nodes.map((node) => node.clusterAddress()));
  for (const address of addresses.slice(1)) await first?.call("CLUSTER", "MEET", ...address);
  await expect
    .poll(() => Promise.all([first, ...others].map((admin) => admin?.call("CLUSTER", "INFO").then(String))))
    .toSatisfy((all: string[]) =>
      all.every((info) => info.includes("cluster_state:ok") && info.includes("known_nodes:3")),
    );
  const end = async () => {
    await Promise.all(nodes.map((node) => node.end()));
    rmSync(folder, { recursive: true });
  };
  return { ports: nodes.map(({ port }) => port), end };
}

export async function freePort(): Promise<number> {
  const server = createServer().listen(0, "127.0.0.1");
  await once(server, "listening");
  const { port } = server.address() as AddressInfo;
  server.close();
  await once(server, "close");
  return port;
}
