import { fileURLToPath } from "node:url";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

const fromRoot = (path: string) => fileURLToPath(new URL(`../../${path}`, import.meta.url));

export default defineConfig(({ mode }) => ({
  plugins: [react()],
  define: { DEVELOPMENT: JSON.stringify(mode !== "production") },
  resolve: {
    // The library from its sources, so that a change of it is seen without a build in between.
    alias: [
      { find: /^cista$/, replacement: fromRoot("packages/cista/src/index.ts") },
      { find: /^cista\/(\w+)$/, replacement: fromRoot("packages/cista/src/$1/index.ts") },
    ],
  },
  // What is bundled here belongs to others too: their licences go along.
  build: { license: { fileName: "licenses.md" } },
  // For `npm run dev`: start an origin with `npm run demo -- --port 4310` beside it.
  server: { proxy: { "/api": "http://127.0.0.1:4310", "/origin": "http://127.0.0.1:4310" } },
}));
