export default defineNuxtConfig({
  compatibilityDate: "2025-07-01",
  telemetry: false,
  devtools: { enabled: false },
  vite: { optimizeDeps: { include: ["cista", "cista/browser", "cista/http", "cista/vue"] } },
});
