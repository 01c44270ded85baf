import { defineConfig } from "vite";
import solid from "vite-plugin-solid";

export default defineConfig({
  plugins: [solid({ ssr: true })],
  ssr: { noExternal: ["@solidjs/router", "cista"] },
  build: { target: "esnext" },
});
