import { defineConfig } from "tsdown";

export default defineConfig({
  entry: { cista: "src/cista.ts" },
  format: "esm",
  platform: "node",
  target: "node20",
  fixedExtension: false,
  dts: false,
  define: { DEVELOPMENT: "true" }, // the library's sources are bundled, with the texts for developers
  // The library has no run-time dependency for its command's sake: the command carries along all that it needs.
  deps: { alwaysBundle: [/.*/], onlyBundle: false },
});
