import { svelte } from "@sveltejs/vite-plugin-svelte";
import { defineConfig } from "vite";
import { shared } from "../board-shared/vite.js";

export default defineConfig(({ mode }) => ({
  ...shared(mode),
  plugins: [svelte({ configFile: false, compilerOptions: { experimental: { async: true } } })],
}));
