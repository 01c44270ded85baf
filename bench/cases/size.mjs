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

const core = 'export { createCache, source } from "cista";';
export const coreSize = () => kilobytes(core);
const react = `${core} export { CistaProvider, useReading, Outcome } from "cista/react";`;
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
/** What one function adds to a program that has the core and an origin. */
export const sizeOnHttp = async (room, name) =>
  (await kilobytes(`${http} export { ${name} } from "${room}";`)) - (await kilobytes(http));

/** The page of the quick start: it asks over HTTP and shows. What the framework itself weighs is not counted. */
const pages = {
  React: ["react", "CistaProvider, useReading, Outcome", ["react"]],
  Vue: ["vue", "CistaPlugin, useReading", ["vue"]],
  Svelte: ["svelte", "provideCache, useReading", ["svelte", "svelte/reactivity"]],
  Solid: ["solid", "CistaProvider, createReading", ["solid-js", "solid-js/web"]],
  Angular: ["angular", "provideCache, injectReading", ["@angular/core"]],
  Lit: ["lit", "provideCache, ReadingController", ["lit"]],
  Preact: ["preact", "CistaProvider, useReading", ["preact", "preact/hooks"]],
  "plain pages": ["plain", "showReading", []],
};
export const pageSizes = Object.entries(pages).map(([framework, [room, names, external]]) => [
  framework,
  () => kilobytes(`${http} export { ${names} } from "cista/${room}";`, external),
]);

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
