import { fileURLToPath } from "node:url";
import type { UserConfig } from "vite";

const fromRoot = (path: string) => fileURLToPath(new URL(`../../${path}`, import.meta.url));

/** The library from its sources; files by relative addresses, so that each board may be served from a folder of its own. */
export const shared = (mode: string): UserConfig => ({
  base: "./",
  define: { DEVELOPMENT: JSON.stringify(mode !== "production") },
  resolve: {
    alias: [
      { find: /^cista$/, replacement: fromRoot("packages/cista/src/index.ts") },
      { find: /^cista\/(\w+)$/, replacement: fromRoot("packages/cista/src/$1/index.ts") },
    ],
    dedupe: ["vue", "svelte", "solid-js", "lit", "preact", "@angular/core"],
  },
  build: { license: { fileName: "licenses.md" } },
  server: { proxy: { "/api": "http://127.0.0.1:4310", "/origin": "http://127.0.0.1:4310" } },
});
