import { reactRouter } from "@react-router/dev/vite";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [reactRouter()],
  optimizeDeps: { include: ["cista", "cista/browser", "cista/http", "cista/react"] },
});
