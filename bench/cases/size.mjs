import { fileURLToPath } from "node:url";
import { brotliCompressSync } from "node:zlib";
import { build } from "esbuild";

const resolveDir = fileURLToPath(new URL("..", import.meta.url));

/** A bundler puts what is imported while the program runs into files of their own. */
const withoutWhatComesLater = {
  name: "without what comes later",
  setup({ onResolve }) {
    onResolve({ filter: /./ }, ({ kind, path }) => (kind === "dynamic-import" ? { path, external: true } : undefined));
  },
};

async function bundled(statement, external, plugins) {
  const { outputFiles } = await build({
    stdin: { contents: statement, resolveDir },
    bundle: true,
    minify: true,
    format: "esm",
    target: "es2022",
    platform: "browser",
    define: { "process.env.NODE_ENV": '"production"' },
    tsconfigRaw: {}, // the package as it is published, not its sources
    external,
    plugins,
    write: false,
    legalComments: "none",
    logLevel: "error",
  });
  return outputFiles[0].contents;
}

/** Kilobytes of what a program gets that imports only this, minified and compressed by brotli. */
export async function kilobytes(statement, external = [], plugins = [withoutWhatComesLater]) {
  return brotliCompressSync(await bundled(statement, external, plugins)).length / 1000;
}

/** The core's size by rooms: each its share of the minified bytes, from the sources, in compressed kilobytes. */
export async function coreByRoom() {
  const sources = fileURLToPath(new URL("../../packages/cista/src/index.ts", import.meta.url));
  const { metafile } = await build({
    stdin: { contents: `export { createCache, source } from ${JSON.stringify(sources)};`, resolveDir },
    bundle: true,
    minify: true,
    format: "esm",
    target: "es2022",
    platform: "browser",
    define: { DEVELOPMENT: "false" },
    plugins: [withoutWhatComesLater],
    write: false,
    metafile: true,
    legalComments: "none",
  });
  const bytes = new Map();
  for (const [path, { bytesInOutput }] of Object.entries(Object.values(metafile.outputs)[0].inputs)) {
    const room = /core\/(\w+)\//.exec(path)?.[1] ?? "cache.ts and the page";
    bytes.set(room, (bytes.get(room) ?? 0) + bytesInOutput);
  }
  const all = [...bytes.values()].reduce((sum, each) => sum + each, 0);
  const whole = await coreSize();
  return new Map([...bytes].map(([room, each]) => [room, (whole * each) / all]));
}

const core = 'export { createCache, source } from "cista";';
export const coreSize = () => kilobytes(core);
const react = `${core} export { CistaProvider, useCache, useReading, Outcome } from "cista/react";`;
/** What one function of a room adds to a program that has the core. */
export const sizeOnTop = async (room, name) =>
  (await kilobytes(`${core} export { ${name} } from "cista/${room}";`)) - (await coreSize());

export const reactSize = async () => (await kilobytes(react, ["react"])) - (await coreSize());
export const reactRestSize = async () =>
  (await kilobytes(
    `${react} export { useValue, useReadings, useValues, useDebounced, useWrite, Boundary } from "cista/react";`,
    ["react"],
  )) - (await kilobytes(react, ["react"]));
const http = `${core} export { origin } from "cista/http";`;
export const httpSize = async () => (await kilobytes(http)) - (await coreSize());
export const httpLaterSize = async () => (await kilobytes(http, [], [])) - (await kilobytes(http));

/** What a program with a framework's binding gets on top: how it provides, reads and writes. */
const bindings = {
  Vue: ["vue", "CistaPlugin, useReading, useWrite", ["vue"]],
  Svelte: ["svelte", "provideCache, useReading, useWrite", ["svelte", "svelte/reactivity"]],
  Solid: ["solid", "CistaProvider, createReading, createWrite", ["solid-js", "solid-js/web"]],
  Angular: ["angular", "provideCache, injectReading, injectWrite", ["@angular/core"]],
  Lit: ["lit", "provideCache, ReadingController, WriteController", ["lit"]],
  Preact: ["preact", "CistaProvider, useReading, useWrite", ["preact", "preact/hooks"]],
  "plain pages": ["plain", "showReading, writeRunner", []],
  React: ["react", "CistaProvider, useReading, useWrite", ["react"]],
};
export const bindingSizes = Object.entries(bindings).map(([framework, [room, names, external]]) => [
  framework,
  async () => (await kilobytes(`${core} export { ${names} } from "cista/${room}";`, external)) - (await coreSize()),
]);
