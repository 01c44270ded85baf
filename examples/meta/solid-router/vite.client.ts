import { mergeConfig } from "vite";
import base from "./vite.config";

export default mergeConfig(base, {
  build: { manifest: true, outDir: "dist/client", rollupOptions: { input: "src/client.tsx" } },
});
