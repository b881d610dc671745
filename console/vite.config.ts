import { fileURLToPath } from "node:url";
import vue from "@vitejs/plugin-vue";
import { defineConfig } from "vitest/config";

const here = (path: string) => fileURLToPath(new URL(path, import.meta.url));

export default defineConfig({
  plugins: [vue()],
  resolve: {
    alias: {
      // Naive UI writes <style> elements, which a strict Content-Security-Policy refuses; see ui/style/adopted-styles.ts.
      "@css-render/vue3-ssr": here("./src/ui/style/adopted-styles.ts"),
      "@": here("./src"),
      // With the compiler: what tests mount is written as a template.
      ...(process.env.VITEST ? { vue: "vue/dist/vue.esm-bundler.js" } : {}),
    },
  },
  build: {
    outDir: "../src/jamb/service/static",
    emptyOutDir: true,
    // An inlined font would need data: in font-src.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8440", "/d": "http://127.0.0.1:8440" } },
  test: { environment: "jsdom", include: ["tests/**/*.test.ts"], setupFiles: ["tests/setup.ts"] },
});
