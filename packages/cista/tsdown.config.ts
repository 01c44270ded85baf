import { defineConfig } from "tsdown";

export default defineConfig({
  entry: {
    index: "src/index.ts",
    http: "src/http/index.ts",
    lamp: "src/lamp/index.ts",
    react: "src/react/index.ts",
    browser: "src/browser/index.ts",
    rehearsal: "src/rehearsal/index.ts",
  },
  format: "esm",
  platform: "neutral",
  target: "es2022",
  fixedExtension: false,
  dts: true,
  // For whoever checks libraries' types with an older lib: a cache has Symbol.dispose.
  banner: { dts: '/// <reference lib="esnext.disposable" />' },
  publint: true,
});
