import { fileURLToPath } from "node:url";
import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

const fromRoot = (path: string) => fileURLToPath(new URL(`../../${path}`, import.meta.url));

export default defineConfig(({ mode }) => ({
  plugins: [react()],
  define: { DEVELOPMENT: JSON.stringify(mode !== "production") },
  resolve: {
    alias: [
      { find: /^cista$/, replacement: fromRoot("packages/cista/src/index.ts") },
      { find: /^cista\/(\w+)$/, replacement: fromRoot("packages/cista/src/$1/index.ts") },
    ],
  },
}));
