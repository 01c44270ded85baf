import { fileURLToPath } from "node:url";
import { svelte } from "@sveltejs/vite-plugin-svelte";
import vue from "@vitejs/plugin-vue";
import { playwright } from "@vitest/browser-playwright";
import solid from "vite-plugin-solid";
import { defineConfig } from "vitest/config";
import { browserArguments, chromiumPath } from "./scripts/chromium.mjs";

const at = (path: string) => fileURLToPath(new URL(path, import.meta.url));

/** The library from its sources: a test sees what stands in the editor, not what was built last. */
const alias = [
  { find: /^cista$/, replacement: at("packages/cista/src/index.ts") },
  { find: /^cista\/(\w+)$/, replacement: at("packages/cista/src/$1/index.ts") },
  { find: /^@cista\/example-origin$/, replacement: at("examples/origin/src/index.ts") },
  // As Node itself resolves it: two copies of it do not know each other's schemas.
  { find: /^graphql$/, replacement: "graphql/index.js" },
];

const react = ["react", "react-dom", "react-dom/client", "react/jsx-dev-runtime", "react-refresh/runtime"];
const frameworks = [
  ...["preact", "preact/hooks", "preact/jsx-dev-runtime", "vue", "lit"],
  ...["solid-js", "solid-js/web", "solid-js/store", "svelte", "svelte/reactivity"],
  ...["@angular/core", "@angular/compiler", "@angular/common", "@angular/platform-browser"],
  ...["@angular/core/testing", "@angular/platform-browser/testing"],
];
const react18 = ["react", "react-dom"].map((name) => ({
  find: new RegExp(`^${name}(?=/|$)`),
  replacement: at(`compat/react-18/node_modules/${name}`),
}));

/** What the build does: puts a flavour in the place of DEVELOPMENT. In Node a test may choose it by NODE_ENV. */
const flavour = (condition: string) => ({
  name: "flavour",
  transform: (code: string, id: string) =>
    id.includes("/packages/cista/src/") && code.includes("DEVELOPMENT")
      ? { code: code.replace(/\bDEVELOPMENT\b/g, condition), map: null }
      : undefined,
});
const inNode = [flavour('(process.env.NODE_ENV !== "production")')];
const inBrowser = [flavour("true")];

const browser = () => ({
  enabled: true,
  headless: true,
  screenshotFailures: false,
  connectTimeout: 600_000,
  provider: playwright({ launchOptions: { executablePath: chromiumPath() ?? "chromium", args: browserArguments } }),
  instances: [{ browser: "chromium" as const }],
});

/** Three files at a time: a test that waits for a browser, or for a pause of a real clock, leaves its core to another. */
const lanes = { maxWorkers: 3 };

/** No test is about how quick a machine is: these end one that hangs, on a machine whose cores are taken by others too. */
const patient = {
  ...lanes,
  testTimeout: 600_000,
  hookTimeout: 600_000,
  expect: { poll: { timeout: 180_000 } },
  setupFiles: [at("packages/cista/test/patience.ts")],
};

export default defineConfig({
  test: {
    projects: [
      {
        resolve: { alias },
        plugins: inNode,
        test: {
          name: "node",
          ...patient,
          environment: "node",
          // The files of a worker share the library that it has loaded: a fifth less to do. A test leaves no global behind.
          isolate: false,
          include: ["{packages,examples}/*/test/**/*.test.ts"],
          exclude: [
            "**/*.server.test.*",
            "**/*.framework.test.*",
            "**/*.browser.test.*",
            "**/*.e2e.test.*",
            "**/node_modules/**",
          ],
        },
      },
      {
        resolve: { alias },
        plugins: inBrowser,
        optimizeDeps: { include: react },
        test: {
          name: "browser",
          ...patient,
          setupFiles: [...patient.setupFiles, at("examples/guide/test/patience.ts")],
          include: ["{packages,examples}/*/test/**/*.browser.test.{ts,tsx}"],
          browser: browser(),
        },
      },
      {
        // The binding with the oldest React that it is for.
        resolve: { alias: [...alias, ...react18] },
        plugins: inBrowser,
        optimizeDeps: { include: react },
        cacheDir: at("node_modules/.vite/react-18"),
        test: {
          name: "react-18",
          ...patient,
          include: ["packages/*/test/**/*.browser.test.tsx", "packages/cista/test/conformance/react.framework.test.ts"],
          browser: browser(),
        },
      },
      {
        // Every binding by one suite, each in its own framework. Not in parallel: they share two cores with a browser.
        resolve: { alias, dedupe: ["react", "react-dom", "vue", "svelte", "solid-js", "lit", "preact"] },
        plugins: [
          ...inBrowser,
          solid({ include: /\.solid\.tsx$/ }),
          vue(),
          svelte({ configFile: false, compilerOptions: { experimental: { async: true } } }),
        ],
        oxc: { decorator: { legacy: true } },
        optimizeDeps: { include: [...react, ...frameworks] },
        cacheDir: at("node_modules/.vite/frameworks"),
        test: {
          name: "frameworks",
          ...patient,
          environment: "node", // else the plugin for Solid chooses another
          include: [
            "{packages,examples}/*/test/**/*.framework.test.ts",
            "packages/*/test/**/*.framework.test.svelte.ts",
          ],
          browser: browser(),
        },
      },
      {
        // The bindings on a server: each by its framework's own renderer.
        resolve: { alias },
        plugins: [...inNode, svelte({ configFile: false, compilerOptions: { experimental: { async: true } } })],
        oxc: { decorator: { legacy: true } },
        test: {
          name: "server",
          ...patient,
          environment: "node",
          include: ["packages/*/test/**/*.server.test.ts"],
        },
      },
      {
        resolve: { alias },
        plugins: [...inNode, solid({ ssr: true, solid: { generate: "ssr", hydratable: true } })],
        test: {
          name: "server-solid",
          ...patient,
          environment: "node",
          include: ["packages/*/test/**/*.solid-server.test.tsx"],
        },
      },
      {
        // What people run: the built command and the built board, in a real browser.
        resolve: { alias },
        plugins: inNode,
        test: {
          name: "whole",
          ...patient,
          environment: "node",
          include: ["{packages,examples}/*/test/**/*.e2e.test.ts"],
          exclude: ["examples/meta/**", "**/node_modules/**"],
        },
      },
      {
        // Each meta-framework with the packed library, installed and built in a folder of its own.
        test: {
          name: "meta",
          ...patient,
          environment: "node",
          include: ["examples/meta/test/*.e2e.test.ts"],
          maxConcurrency: 2,
        },
      },
    ],
  },
});
