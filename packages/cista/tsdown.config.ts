import { defineConfig, type UserConfig } from "tsdown";

const common: UserConfig = {
  entry: {
    index: "src/index.ts",
    binding: "src/binding/index.ts",
    http: "src/http/index.ts",
    lamp: "src/lamp/index.ts",
    react: "src/react/index.ts",
    browser: "src/browser/index.ts",
    rehearsal: "src/rehearsal/index.ts",
    server: "src/server/index.ts",
    fleet: "src/fleet/index.ts",
    vue: "src/vue/index.ts",
    svelte: "src/svelte/index.ts",
    solid: "src/solid/index.ts",
    angular: "src/angular/index.ts",
    lit: "src/lit/index.ts",
    preact: "src/preact/index.ts",
    plain: "src/plain/index.ts",
  },
  format: "esm",
  platform: "neutral",
  target: "es2022",
  fixedExtension: false,
};

/** One build for each export condition, and one for bundlers that only know `process.env.NODE_ENV`; the types stand once. */
export default defineConfig([
  {
    ...common,
    define: { DEVELOPMENT: '(process.env.NODE_ENV !== "production")' },
    dts: true,
    // For whoever checks libraries' types with an older lib: a cache has Symbol.dispose.
    banner: { dts: '/// <reference lib="esnext.disposable" />' },
  },
  { ...common, outDir: "dist/development", define: { DEVELOPMENT: "true" }, dts: false, clean: false },
  { ...common, outDir: "dist/production", define: { DEVELOPMENT: "false" }, dts: false, clean: false },
]);
