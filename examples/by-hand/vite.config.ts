import react from "@vitejs/plugin-react";
import { defineConfig } from "vite";

export default defineConfig({
  plugins: [react()],
  // For `npm run dev`: start an origin with `npm run demo -- --port 4310` beside it.
  server: { proxy: { "/api": "http://127.0.0.1:4310", "/origin": "http://127.0.0.1:4310" } },
});
