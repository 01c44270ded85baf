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

/** Kilobytes of what a program gets that imports only this, minified and compressed by brotli. */
export async function kilobytes(statement, external = [], plugins = [withoutWhatComesLater]) {
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
  return brotliCompressSync(outputFiles[0].contents).length / 1000;
}

const core = 'export { createCache, source } from "cista";';
export const coreSize = () => kilobytes(core);
export const reactSize = async () =>
  (await kilobytes(
    `${core} export { CistaProvider, useCache, useReading, useValue, useWrite, Outcome, Boundary } from "cista/react";`,
    ["react"],
  )) - (await coreSize());
const http = `${core} export { origin } from "cista/http";`;
export const httpSize = async () => (await kilobytes(http)) - (await coreSize());
export const httpLaterSize = async () => (await kilobytes(http, [], [])) - (await kilobytes(http));
