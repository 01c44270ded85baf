import { defineConfig } from "vite";
import { shared } from "../board-shared/vite.js";

export default defineConfig(({ mode, isSsrBuild }) => ({
  ...shared(mode),
  base: "./",
  build: {
    manifest: true,
    ...(isSsrBuild ? { emptyOutDir: false } : { outDir: "dist/page", rollupOptions: { input: "src/client.tsx" } }),
  },
  ssr: { noExternal: [/^cista/, /^@cista\//] },
}));
