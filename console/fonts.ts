import type { Plugin } from "vite";

/** The two files that every page shows: asked for with the page itself, not when its style has come. */
const FIRST = /\/(hanken-grotesk|jetbrains-mono)-latin-wght-normal-[^/]*\.woff2$/;

/**
 * Text stays where it was drawn: a font that comes too late is for the next page, as a late one would move every line
 * (CSS Fonts 4, section 4.9: `optional`; the packages say `swap`).
 */
export const fonts = (): Plugin => ({
  name: "fonts",
  enforce: "pre",
  transform(code, id) {
    if (!/@fontsource[^?]*\.css/.test(id)) return null;
    return code.replaceAll("font-display: swap", "font-display: optional");
  },
  transformIndexHtml: {
    order: "post",
    handler: (_html, { bundle }) =>
      Object.keys(bundle ?? {})
        .filter((file) => FIRST.test(file))
        .map((file) => ({
          tag: "link",
          attrs: { rel: "preload", href: `/${file}`, as: "font", type: "font/woff2", crossorigin: "" },
          injectTo: "head",
        })),
  },
});
