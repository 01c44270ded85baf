import { defineConfig } from "tsdown";

export default defineConfig({
  entry: { cista: "src/cista.ts" },
  format: "esm",
  platform: "node",
  target: "node20",
  fixedExtension: false,
  dts: false,
  // The origin is a private example: the command carries it along.
  deps: { alwaysBundle: ["@cista/example-origin"], onlyBundle: false },
});
