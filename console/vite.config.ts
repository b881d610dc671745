import { readFileSync, readdirSync, writeFileSync } from "node:fs";
import { join } from "node:path";
import { fileURLToPath } from "node:url";
import { brotliCompressSync, constants, gzipSync } from "node:zlib";
import vue from "@vitejs/plugin-vue";
import { defineConfig } from "vitest/config";
import { fonts } from "./fonts.ts";
import { guide } from "./guide.ts";
import { sentences } from "./sentences.ts";

const here = (path: string) => fileURLToPath(new URL(path, import.meta.url));

const OUT = here("../src/jamb/service/static");
const SMALLEST = 1000;

/** What is text is compressed once, when it is built: the service sends the file that the browser takes. */
const compressed = () => ({
  name: "compressed",
  // Not when tests close their server: there is nothing new, and it takes a quarter of a minute.
  apply: "build" as const,
  closeBundle() {
    for (const entry of readdirSync(OUT, { recursive: true, withFileTypes: true })) {
      const file = join(entry.parentPath, entry.name);
      if (!entry.isFile() || !/\.(js|css|svg|html)$/.test(entry.name)) continue;
      const content = readFileSync(file);
      if (content.length < SMALLEST) continue;
      const best = { params: { [constants.BROTLI_PARAM_QUALITY]: constants.BROTLI_MAX_QUALITY } };
      writeFileSync(`${file}.br`, brotliCompressSync(content, best));
      writeFileSync(`${file}.gz`, gzipSync(content, { level: 9 }));
    }
  },
});

export default defineConfig({
  plugins: [sentences(), vue(), fonts(), guide(), compressed()],
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
    outDir: OUT,
    // What several pages share comes at once: a page is a handful of files, not forty.
    rolldownOptions: {
      output: {
        codeSplitting: {
          groups: [{ name: "shared", test: /src\/(ui|api|frame)\//, minShareCount: 2 }],
        },
      },
    },
    emptyOutDir: true,
    // An inlined font would need data: in font-src.
    assetsInlineLimit: 0,
    modulePreload: { polyfill: false },
  },
  server: { proxy: { "/api": "http://127.0.0.1:8440", "/d": "http://127.0.0.1:8440" } },
  // What a file keeps from the one before is forgotten in tests/setup.ts.
  test: { environment: "jsdom", isolate: false, include: ["tests/**/*.test.ts"], setupFiles: ["tests/setup.ts"] },
});
