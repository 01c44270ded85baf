import { defineConfig } from "vite";
import { shared } from "../board-shared/vite.js";

export default defineConfig(({ mode }) => ({ ...shared(mode) }));
