// Who speaks to the page says what they see: a label that replaces visible words contains them (WCAG 2.2, 2.5.3).
import { parse } from "@vue/compiler-sfc";
import { expect, test } from "vitest";
import english from "@/texts/en.json";

const files = import.meta.glob<string>("/src/**/*.vue", { query: "?raw", import: "default", eager: true });
const PRESSED = new Set(["button", "a", "summary", "NButton", "RouterLink"]);
const WORDS = /\p{L}{2,}/u;
const QUOTED = /(["'`])((?:(?!\1).)*?)\1/gu;

interface Node {
  type: number;
  tag?: string;
  content?: string | Node;
  children?: Node[];
  props?: { name: string; value?: { content: string }; arg?: { content: string }; exp?: { content: string } }[];
}

const inEnglish = (text: string): string =>
  text.replace(/\b([a-z_]+)\.([a-z_]+)\b/g, (key, part: string, name: string) =>
    String((english as Record<string, Record<string, unknown>>)[part]?.[name] ?? key),
  );

/** Yield what an element shows: its texts, and the texts in quotes of its expressions. */
function* shown(node: Node): Generator<string> {
  for (const child of node.children ?? []) {
    if (child.type === 2 && typeof child.content === "string") yield child.content;
    if (child.type === 5 && typeof child.content === "object") {
      for (const [, , text] of String(child.content.content).matchAll(QUOTED)) yield text ?? "";
    }
    yield* shown(child);
  }
}

/** Yield each element whose label lacks a word that it shows. */
function* unlike(node: Node): Generator<string> {
  const label = (node.props ?? [])
    .filter((one) => one.name === "aria-label" || one.arg?.content === "aria-label")
    .map((one) => inEnglish(one.value?.content ?? one.exp?.content ?? ""))[0];
  if (label !== undefined && PRESSED.has(node.tag ?? "")) {
    for (const text of shown(node)) {
      const words = inEnglish(text).trim().replace(/\s+/g, " ").toLowerCase();
      if (WORDS.test(words) && !label.toLowerCase().includes(words)) yield `"${words}" is not in ${label}`;
    }
  }
  for (const child of node.children ?? []) yield* unlike(child);
}

test.each(Object.keys(files))("%s labels what is pressed with the words it shows", (file) => {
  expect([...unlike(parse(files[file] ?? "").descriptor.template?.ast as unknown as Node)]).toEqual([]);
});
