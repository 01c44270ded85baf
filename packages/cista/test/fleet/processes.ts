import { type ChildProcess, fork } from "node:child_process";
import { once } from "node:events";
import { mkdtempSync, rmSync } from "node:fs";
import { createServer, type Server } from "node:http";
import { type AddressInfo, connect, createServer as createTcpServer, type Socket } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { build } from "esbuild";
import type { WorkerSettings } from "./worker.js";

// A real fleet: processes, an origin that counts, and a way to Redis that can be cut.

const src = fileURLToPath(new URL("../../src", import.meta.url));

/** The worker, bundled once for all. */
export async function bundledWorker(): Promise<{ path: string; remove(): void }> {
  const folder = mkdtempSync(join(tmpdir(), "cista-fleet-"));
  const path = join(folder, "worker.mjs");
  await build({
    entryPoints: [fileURLToPath(new URL("./worker.ts", import.meta.url))],
    alias: {
      cista: join(src, "index.ts"),
      "cista/fleet": join(src, "fleet/index.ts"),
      "cista/http": join(src, "http/index.ts"),
    },
    bundle: true,
    platform: "node",
    format: "esm",
    target: "node20",
    banner: { js: 'import { createRequire } from "node:module"; const require = createRequire(import.meta.url);' },
    define: { DEVELOPMENT: "true" },
    outfile: path,
    logLevel: "error",
  });
  return { path, remove: () => rmSync(folder, { recursive: true }) };
}

type Said = { n: number; value?: any; failed?: string; isTold?: boolean; figures?: any; isAway?: boolean };

/** One process of the fleet. */
export class Worker {
  readonly process: ChildProcess;
  readonly #waiting = new Map<number, (said: Said) => void>();
  #n = 0;

  private constructor(path: string, settings: WorkerSettings) {
    this.process = fork(path, [JSON.stringify(settings)], { stdio: ["ignore", "ignore", "inherit", "ipc"] });
    this.process.on("message", (said: Said) => this.#waiting.get(said.n)?.(said));
  }

  static async start(path: string, settings: WorkerSettings): Promise<Worker> {
    const worker = new Worker(path, settings);
    await new Promise((resolve) => worker.#waiting.set(0, resolve));
    return worker;
  }

  ask(id: string, user?: string): Promise<Said> {
    return this.#order({ kind: "ask", id, user });
  }

  async invalidate(...groups: string[]): Promise<boolean> {
    return (await this.#order({ kind: "invalidate", groups })).isTold === true;
  }

  async figures(): Promise<any> {
    const { figures, isAway } = await this.#order({ kind: "figures" });
    return { ...figures, isAway };
  }

  async kill(): Promise<void> {
    if (this.process.exitCode !== null || this.process.signalCode !== null) return;
    const ended = once(this.process, "exit");
    this.process.kill("SIGKILL");
    await ended;
  }

  #order(order: object): Promise<Said> {
    const n = ++this.#n;
    return new Promise((resolve) => {
      this.#waiting.set(n, resolve);
      this.process.send({ n, ...order });
    });
  }
}

/** What answers with a hut, and counts. */
export class CountingOrigin {
  readonly server: Server;
  url = "";
  /** The paths that were asked for. */
  asked: string[] = [];
  cacheControl = "max-age=600";
  /** Answers wait for this. */
  gate: Promise<void> = Promise.resolve();
  #version = 0;

  constructor() {
    this.server = createServer(async ({ url = "", headers }, response) => {
      this.asked.push(url);
      const version = ++this.#version;
      await this.gate;
      const body = { id: url.slice(6), version, of: headers.authorization };
      response.setHeader("cache-control", this.cacheControl);
      response.setHeader("cache-groups", '"huts"');
      response.setHeader("content-type", "application/json");
      response.end(JSON.stringify(body));
    });
  }

  async start(): Promise<this> {
    await new Promise<void>((resolve) => this.server.listen(0, "127.0.0.1", resolve));
    this.url = `http://127.0.0.1:${(this.server.address() as AddressInfo).port}`;
    return this;
  }

  /** Answers wait until what this returns is called. */
  hold(): () => void {
    let release = () => {};
    this.gate = new Promise((resolve) => {
      release = resolve;
    });
    return release;
  }

  end(): void {
    this.server.close();
    this.server.closeAllConnections();
  }
}

/** A way to a port that can be cut, and hang. */
export class Way {
  readonly #server = createTcpServer((socket) => this.#join(socket));
  readonly #sockets = new Set<Socket>();
  readonly #to: number;
  isCut = false;
  port = 0;

  constructor(to: number) {
    this.#to = to;
  }

  async start(): Promise<this> {
    await new Promise<void>((resolve) => this.#server.listen(0, "127.0.0.1", resolve));
    this.port = (this.#server.address() as AddressInfo).port;
    return this;
  }

  cut(): void {
    this.isCut = true;
    for (const socket of this.#sockets) socket.destroy();
  }

  mend(): void {
    this.isCut = false;
  }

  end(): void {
    this.cut();
    this.#server.close();
  }

  #join(socket: Socket): void {
    if (this.isCut) return void socket.destroy();
    const other = connect(this.#to, "127.0.0.1");
    for (const [one, another] of [
      [socket, other],
      [other, socket],
    ] as const) {
      this.#sockets.add(one);
      one.on("error", () => {});
      one.on("close", () => {
        this.#sockets.delete(one);
        another.destroy();
      });
      one.pipe(another);
    }
  }
}
