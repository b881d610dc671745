// The guide's pages, made from docs/ when the console is built: HTML without a script in it, and their sections for the search.
import MarkdownIt from "markdown-it";
import Token from "markdown-it/lib/token.mjs";
import type { Plugin } from "vite";
import { apiPage, type Description } from "./api-pages.ts";

export interface Section {
  id: string;
  title: string;
  text: string;
}

export interface GuidePage {
  title: string;
  html: string;
  sections: Section[];
}

const nameOf = (path: string) => path.slice(path.lastIndexOf("/") + 1).replace(/\.md$/, "");
const CONSOLE = "In the console";
const COMMANDS = "On the command line";
// What other pages of docs/ link to and is not part of the guide is named, not linked.
const SERVED = new Set([
  "index",
  "registrar",
  "approver",
  "custodian",
  "auditor",
  "owner",
  "integrator",
  "operator",
  "glossary",
  "operations",
  "security",
  "audit-rules",
]);

/** The id of a heading, as readers of the files themselves have it. */
export const idOf = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^\p{L}\p{N} _-]/gu, "")
    .replace(/ /g, "-");

/** Where a link of a page leads within the console; null: nowhere. */
export function addressOf(href: string, page: string): string | null {
  if (/^https?:/.test(href) || href === "/openapi.json") return href;
  const [path = "", hash] = href.split("#");
  const name = path ? nameOf(path) : page;
  if (path && (!path.endsWith(".md") || !SERVED.has(name) || path.includes("decisions/"))) return null;
  return `/help${name === "index" ? "" : `/${name}`}${hash ? `#${hash}` : ""}`;
}

/** Render one page. A recipe's two ways stand side by side. `framed`: tables may be wider than the page, and move. */
export function guidePage(source: string, page: string, framed = true): GuidePage {
  const markdown = new MarkdownIt({ html: false });
  markdown.renderer.rules.fence = (all, at) => commands(all[at]!, page);
  const tokens = markdown.parse(source, {});
  const made: Token[] = [];
  const sections: Section[] = [];
  let title = page;
  let both = false;
  let tables = 0;
  const raw = (html: string) => {
    const token = new Token("html_block", "", 0);
    token.content = html;
    made.push(token);
  };
  tokens.forEach((token, at) => {
    if (token.type === "heading_open") {
      const words = plain(tokens[at + 1]?.children ?? []);
      const level = Number(token.tag.slice(1));
      if (level === 1) title = words;
      if (words === CONSOLE) {
        raw('<div class="both"><section>');
        both = true;
      } else if (words === COMMANDS && both) raw("</section><section>");
      // The two ways have the same name in each recipe.
      if (level < 3 || ![CONSOLE, COMMANDS].includes(words)) {
        token.attrSet("id", idOf(words));
        sections.push({ id: level === 1 ? "" : idOf(words), title: words, text: "" });
      }
    }
    if (token.type === "inline") {
      open(token.children ?? [], page);
      const last = sections[sections.length - 1];
      if (last) last.text += `${plain(token.children ?? [])} `;
    }
    if (token.type === "fence") {
      const last = sections[sections.length - 1];
      if (last) last.text += `${token.content} `;
    }
    if (token.type === "table_open" && framed) {
      tables += 1;
      raw(`<div class="wide" tabindex="0" role="region" aria-label="Table ${tables}">`);
    }
    made.push(token);
    if (token.type === "table_close" && framed) raw("</div>");
    // The commands end with their block: what is said about them runs over the whole width.
    if (token.type === "fence" && both) {
      raw("</section></div>");
      both = false;
    }
  });
  return { title, sections, html: markdown.renderer.render(made, markdown.options, {}) };
}

const escaped = (text: string) => text.replace(/&/g, "&amp;").replace(/</g, "&lt;").replace(/>/g, "&gt;");

/** Lines to be typed: each stands by itself however narrow the page is, no option is broken, and another's are named. */
function commands(fence: Token, page: string): string {
  const who = fence.info.split(" ")[1]?.split("@");
  const other = who && who[0] !== page && !(page === "index") ? `As ${who[0]}${who[1] ? ` of ${who[1]}` : ""}:` : "";
  const lines = fence.content.trimEnd().split("\n");
  const whole = (line: string) => escaped(line).replace(/(^| )(--?[a-z-]+)/g, '$1<span class="whole">$2</span>');
  return `${other ? `<p class="who">${other}</p>` : ""}<pre><code>${lines.map((one) => `<span class="line">${whole(one)}</span>`).join("\n")}</code></pre>\n`;
}

function plain(children: { type: string; content: string }[]): string {
  return children.map((one) => (one.type === "softbreak" ? " " : one.content)).join("");
}

/** Let each link lead where the console has it. */
function open(children: Token[], page: string): void {
  let dropped = 0;
  for (const token of children) {
    if (token.type === "link_open") {
      const address = addressOf(token.attrGet("href") ?? "", page);
      if (address) token.attrSet("href", address);
      else {
        dropped += 1;
        token.tag = "span";
        token.attrs = null;
      }
    } else if (token.type === "link_close" && dropped) {
      dropped -= 1;
      token.tag = "span";
    }
  }
}

export const guide = (): Plugin => ({
  name: "guide",
  // Before what reads JSON: of the API's description a page is made, too.
  enforce: "pre",
  transform(source, id) {
    if (id.endsWith("openapi.json?page")) {
      const page = guidePage(apiPage(JSON.parse(source) as Description), "api", false);
      return { code: `export default ${JSON.stringify(page)}`, map: null, moduleType: "js" };
    }
    if (!id.endsWith(".md")) return undefined;
    return { code: `export default ${JSON.stringify(guidePage(source, nameOf(id)))}`, map: null };
  },
});
