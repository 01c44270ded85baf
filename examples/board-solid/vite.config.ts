import { defineConfig } from "vite";
import solid from "vite-plugin-solid";
import { shared } from "../board-shared/vite.js";

export default defineConfig(({ mode }) => ({ ...shared(mode), plugins: [solid()] }));
