import { defineConfig } from "tsdown";

export default defineConfig({
  entry: { cista: "src/cista.ts" },
  format: "esm",
  platform: "node",
  target: "node20",
  fixedExtension: false,
  dts: false,
  define: { DEVELOPMENT: "true" }, // the library's sources are bundled, with the texts for developers
  // What is of this repository is bundled; packages of others are dependencies, which an audit sees.
  deps: { alwaysBundle: [/^cista(\/|$)/, /^@cista\//], onlyBundle: false },
});
