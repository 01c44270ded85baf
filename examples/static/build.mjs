// Builds the page once, with its data: `npm run build -w @cista/example-static`.
import { readFileSync, writeFileSync } from "node:fs";
import { fileURLToPath } from "node:url";
import { build } from "vite";

const root = fileURLToPath(new URL(".", import.meta.url));
const common = { root, logLevel: "warn", configFile: `${root}vite.config.ts` };
await build(common);
const rendering = ["src/render.tsx", "src/origin.ts"];
await build({ ...common, build: { ssr: true, outDir: "dist/server", rollupOptions: { input: rendering } } });

const { startOrigin } = await import("./dist/server/origin.js");
const origin = await startOrigin();
process.env.STATIC_ORIGIN = origin.url; // read when what renders is first imported
const { renderSheet } = await import("./dist/server/render.js");
const manifest = JSON.parse(readFileSync(`${root}dist/page/.vite/manifest.json`, "utf8"));
const { file, css = [] } = manifest["src/client.tsx"];
writeFileSync(`${root}dist/page/index.html`, await renderSheet(`./${file}`, css));
await origin.close();
