import { mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { createServer, type IncomingMessage, type Server, type ServerResponse } from "node:http";
import { createRequire } from "node:module";
import type { AddressInfo } from "node:net";
import { tmpdir } from "node:os";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import type { ServerPage } from "cista/server";
import { build } from "esbuild";
import type { Browser, Page as Tab } from "playwright";
import { expect } from "vitest";
import { launchChromium } from "../../../../scripts/browser.mjs";
import type { Visit } from "./server.js";

const here = fileURLToPath(new URL(".", import.meta.url));
const src = join(here, "../../src");
const rooms = ["http", "react", "browser", "server"].map((room) => [`cista/${room}`, join(src, room, "index.ts")]);
const react18 = join(here, "../../../../compat/react-18/node_modules");

export interface Flavour {
  readonly react: "19" | "18";
  readonly mode: "development" | "production";
}

/** What renders the page, and gives the browser its scripts. */
export interface Renderers {
  dataFrom(url: string): void;
  render(visit: Visit, response: ServerResponse): ServerPage;
  serve(request: IncomingMessage, response: ServerResponse): void;
}

/** What the data's server sends, by a part's name; the text says how often it was asked. */
export const answers: Record<string, { headers?: Record<string, string>; status?: number; text?: string }> = {
  quick: { headers: { "cache-control": "max-age=60" } },
  other: { headers: { "cache-control": "max-age=60" } },
  slow: { headers: { "cache-control": "max-age=60" } },
  "no-cache": { headers: { "cache-control": "no-cache" } },
  "v-no-cache": { headers: { "cache-control": "no-cache" } },
  stale: { headers: { "cache-control": "max-age=0, stale-while-revalidate=60" } },
  "v-stale": { headers: { "cache-control": "max-age=0, stale-while-revalidate=60" } },
  "no-store": { headers: { "cache-control": "no-store" } },
  silent: {},
  missing: { status: 404 },
  failing: { status: 500 },
  hostile: {
    headers: { "cache-control": "max-age=60" },
    text: "</script><!--<script>alert(1)</script>\u2028__proto__",
  },
};

/** A server that renders a page, gives its data, and a browser that opens it. */
export class PageStage {
  /** How the next page is rendered. */
  visit: Omit<Visit, "names"> = usual;
  /** What the page's own answer says beside its type. */
  headers: Record<string, string> = {};
  /** "server value" or "browser value" for each request. */
  readonly asked: string[] = [];
  readonly ended: string[] = [];
  url = "";
  #lastPage: ServerPage | undefined;
  #lastHtml: Promise<string> = Promise.resolve("");
  readonly #troubles: string[] = [];
  /** What answers wait for, by name. */
  readonly #gates = new Map<string, Promise<void>>();
  #server: Server | undefined;
  #browser: Browser | undefined;

  async begin({ dataFrom, render, serve }: Renderers): Promise<void> {
    this.#server = createServer((request, response) => {
      const { pathname, searchParams } = new URL(request.url ?? "/", "http://localhost");
      const isBrowser = request.headers["sec-fetch-mode"] === "cors" && request.headers["sec-fetch-site"];
      if (pathname.startsWith("/api/"))
        return this.#data(pathname.slice(5), isBrowser ? "browser" : "server", response);
      if (pathname !== "/") return serve(request, response);
      response.setHeaders(new Headers({ "content-type": "text/html; charset=utf-8", ...this.headers }));
      this.#lastPage = render({ ...this.visit, names: searchParams.get("parts")?.split(",") ?? [] }, response);
    });
    await new Promise<void>((resolve) => this.#server?.listen(0, "127.0.0.1", resolve));
    this.url = `http://127.0.0.1:${(this.#server.address() as AddressInfo).port}`;
    dataFrom(this.url);
    this.#browser = await launchChromium();
  }

  /** What the server knows of the page that was asked for last. */
  get lastPage(): ServerPage {
    if (!this.#lastPage) throw new Error("No page has been asked for.");
    return this.#lastPage;
  }

  /** The page's own bytes, of the tab that was opened last. */
  get lastHtml(): Promise<string> {
    return this.#lastHtml;
  }

  async end(): Promise<void> {
    await this.#browser?.close();
    this.#server?.closeAllConnections();
    this.#server?.close();
  }

  /** After each test: nothing was thrown or warned of in the page. */
  clear(): void {
    this.visit = usual;
    this.headers = {};
    this.#gates.clear();
    this.asked.length = this.ended.length = 0;
    expect(this.#troubles.splice(0)).toEqual([]);
  }

  /** An answer waits until what this returns is called. */
  holdBack(name: string): () => void {
    let release = () => {};
    this.#gates.set(name, new Promise((resolve) => (release = resolve)));
    return release;
  }

  async open(parts: string, clockIsOff = 0): Promise<Tab> {
    const tab = (await this.#browser?.newPage()) as Tab;
    tab.on("pageerror", (error) => this.#troubles.push(error.message));
    tab.on("console", (message) => {
      const isTrouble = /error|warning/.test(message.type()) && !/status of|Feature flags/.test(message.text());
      if (isTrouble) this.#troubles.push(message.text());
    });
    await tab.addInitScript((hours) => {
      const now = Date.now.bind(Date);
      if (hours) Date.now = () => now() + hours * 3_600_000;
    }, clockIsOff);
    const response = await tab.goto(`${this.url}/?parts=${encodeURIComponent(parts)}`, { waitUntil: "commit" });
    this.#lastHtml = response?.text() ?? Promise.resolve("");
    this.#lastHtml.catch(() => {}); // the tab may be closed before all of it is there
    return tab;
  }

  #data(name: string, side: string, response: ServerResponse): void {
    this.asked.push(`${side} ${name}`);
    response.on("close", () => this.ended.push(`${name} ${response.writableEnded ? "answered" : "aborted"}`));
    const { headers = {}, status = 200, text } = answers[name] ?? {};
    void Promise.resolve(this.#gates.get(name)).then(() => {
      if (response.destroyed) return;
      response.writeHead(status, { "content-type": "application/json", ...headers });
      const times = this.asked.filter((each) => each.endsWith(` ${name}`)).length;
      response.end(JSON.stringify({ text: text ?? `${name} ${times}` }));
    });
  }
}

const usual: Omit<Visit, "names"> = { renderer: "node", options: {}, nonce: undefined };

/** The page of `app.ts` with one of the two Reacts, bundled for both sides. */
export async function reactPage(flavour: Flavour): Promise<Renderers> {
  const script = await bundled("client.ts", flavour, "browser");
  const folder = mkdtempSync(join(tmpdir(), "cista-page-"));
  writeFileSync(join(folder, "server.cjs"), await bundled("server.ts", flavour, "node"));
  const half: Omit<Renderers, "serve"> = createRequire(import.meta.url)(join(folder, "server.cjs"));
  rmSync(folder, { recursive: true });
  return {
    ...half,
    serve(request, response) {
      if (request.url !== "/client.js") return void response.writeHead(404).end();
      response.setHeader("content-type", "text/javascript").end(script);
    },
  };
}

async function bundled(name: string, { react, mode }: Flavour, platform: "browser" | "node"): Promise<Uint8Array> {
  const older = { react: join(react18, "react"), "react-dom": join(react18, "react-dom") };
  const { outputFiles } = await build({
    entryPoints: [join(here, name)],
    alias: { ...Object.fromEntries(rooms), cista: join(src, "index.ts"), ...(react === "18" ? older : {}) },
    bundle: true,
    platform,
    format: platform === "node" ? "cjs" : "esm",
    target: "es2022",
    define: { DEVELOPMENT: String(mode === "development"), "process.env.NODE_ENV": JSON.stringify(mode) },
    write: false,
    logLevel: "error",
    splitting: false,
    outfile: "bundle.js",
  });
  return outputFiles[0]?.contents ?? new Uint8Array();
}

/** What one part of the page says. */
export const shown = (tab: Tab, name: string): Promise<string | null> =>
  tab.locator(`p[id="${name}"]:visible`).textContent();
/** What React had to mend while it hydrated. */
export const recovered = (tab: Tab): Promise<string[]> =>
  tab.evaluate(() => (globalThis as unknown as { errors: string[] }).errors);
/** With an answer to a request that was made after all that the page asked for while it came alive. */
export const idle = (tab: Tab): Promise<void> =>
  tab.evaluate(async () => void (await (await fetch("/client.js")).text()));
export async function settled(tab: Tab): Promise<void> {
  // Asked from here: a page that is never drawn, on a busy machine, has no frames to look in.
  const state = () => tab.evaluate(() => `${document.readyState}, ${"cache" in globalThis ? "alive" : "dead"}`);
  await expect.poll(state).toBe("complete, alive");
}
/** Hydrated, and given the time in which it would ask. */
export async function hydrated(tab: Tab): Promise<void> {
  await settled(tab);
  await pressed(tab);
  await idle(tab);
}
/** The button counts once it is hydrated: what is pressed before is lost, as on every such page. */
export async function pressed(tab: Tab): Promise<void> {
  const button = tab.getByRole("button");
  const press = async () => {
    await button.click();
    return button.textContent();
  };
  await expect.poll(press).toMatch(/^pressed [1-9]/);
}
