// What stands in a page as text is said in the reader's language: `<p>No client matches.</p>` stays as it is written, and
// is looked up when it is shown. What a program says is marked there by `t`.
import {
  type AttributeNode,
  type DirectiveNode,
  type ElementNode,
  NodeTypes,
  type RootNode,
  type TemplateChildNode,
} from "@vue/compiler-dom";
import type { Plugin } from "vite";
import { MagicString, type SFCDescriptor, parse } from "@vue/compiler-sfc";

/** Each text by its English words: these, or the forms that a number of things takes. */
export type Sentences = Record<string, string | { one: string; other: string }>;

// Attributes that are read by people, of elements and of our own components.
const READ = new Set(["alt", "aria-label", "hint", "label", "lead", "missing", "placeholder", "title", "what", "word"]);
// What is typed or copied as it stands is the same in every language.
const AS_IT_STANDS = new Set(["code", "kbd", "pre", "script", "style", "textarea"]);
// What may stand within a sentence; all else ends one.
const WITHIN = new Set(
  ["a", "abbr", "b", "br", "button", "code", "em", "i", "input", "kbd", "select", "small", "span", "strong", "template", "time"].concat([
    "CopyButton",
    "Moment",
    "NButton",
    "RouterLink",
    "Said",
    "StateWord",
  ]),
);
// At the ends of a sentence these are beside it, and no part of it.
const BESIDE = new Set(["button", "input", "NButton", "select"]);
const LETTER = /\p{L}/u;

type Edited = InstanceType<typeof MagicString>;
export type Child = TemplateChildNode;

const isElement = (node: Child): node is ElementNode => node.type === NodeTypes.ELEMENT;
const directive = (node: Child, ...names: string[]): boolean =>
  isElement(node) && node.props.some((prop) => prop.type === NodeTypes.DIRECTIVE && names.includes((prop as DirectiveNode).name));
const contentOf = (node: Child): string => (node.type === NodeTypes.TEXT ? String((node as { content: string }).content) : "");
const says = (node: Child): boolean => LETTER.test(contentOf(node));
const blank = (node: Child): boolean => node.type === NodeTypes.COMMENT || (node.type === NodeTypes.TEXT && !contentOf(node).trim());
const within = (node: Child): boolean => !isElement(node) || (WITHIN.has(node.tag) && !directive(node, "slot"));
const beside = (node: Child): boolean => blank(node) || (isElement(node) && BESIDE.has(node.tag));

/** A page's template with its texts asked for, and what these are. */
class Page {
  readonly found: Sentences = {};
  component = false;

  constructor(private readonly edited: Edited) {}

  read(node: RootNode | ElementNode): void {
    if (node.type === NodeTypes.ELEMENT) {
      for (const prop of (node as ElementNode).props) if (prop.type === NodeTypes.ATTRIBUTE) this.attribute(prop as AttributeNode);
      if (AS_IT_STANDS.has((node as ElementNode).tag)) return;
    }
    const inline = node.type === NodeTypes.ELEMENT && WITHIN.has((node as ElementNode).tag);
    let run: Child[] = [];
    for (const child of [...node.children, undefined]) {
      if (child && within(child)) run.push(child);
      else {
        this.run(run, inline ? node.children : []);
        run = [];
        if (child) this.read(child as ElementNode);
      }
    }
  }

  private attribute(prop: AttributeNode): void {
    const text = prop.value?.content ?? "";
    if (!READ.has(prop.name) || !LETTER.test(text)) return;
    this.note(text);
    this.edited.overwrite(prop.loc.start.offset, prop.loc.end.offset, `:${prop.name}="${quoted(asked(text))}"`);
  }

  /** `line`: what stands in the same line, where the line goes on beyond it: spaces at its ends are kept. */
  private run(all: Child[], line: Child[]): void {
    let [from, to] = [0, all.length];
    while (from < to && beside(all[from]!)) from++;
    while (from < to && beside(all[to - 1]!)) to--;
    const run = all.slice(from, to);
    if (run.some(says)) this.sentence(run, run[0] === line[0], run.at(-1) === line.at(-1));
    for (const node of all) if (isElement(node)) this.read(node);
  }

  private sentence(run: Child[], first: boolean, last: boolean): void {
    const places: Child[][] = [];
    let text = "";
    for (const node of run) {
      if (node.type === NodeTypes.COMMENT) continue;
      if (node.type === NodeTypes.TEXT) text += contentOf(node);
      else if (directive(node, "else", "else-if")) places.at(-1)!.push(node);
      else {
        text += `{${places.length}}`;
        places.push([node]);
      }
    }
    const [start, end] = [run[0]!, run.at(-1)!].map((node) => node.loc);
    const space = (found: string, kept: boolean): string =>
      found && kept ? `{{ ${JSON.stringify(found.replace(/[ \n\t]+/g, " "))} }}` : found;
    const [before, after] = [space(/^\s*/.exec(text)![0], first), space(/\s*$/.exec(text)![0], last)];
    this.note(text.trim());
    if (run.some(isElement)) this.mixed(run, places, text.trim(), before, after);
    else {
      const values = run.filter((node) => node.type === NodeTypes.INTERPOLATION).map((node) => expression(node));
      const said = `${before}{{ ${asked(text.trim(), values)} }}${after}`;
      this.edited.overwrite(start!.start.offset, end!.end.offset, said);
    }
  }

  /** Elements stay where they are in the source, each as a place of the sentence. */
  private mixed(run: Child[], places: Child[][], text: string, before: string, after: string): void {
    this.component = true;
    const { edited } = this;
    for (const node of run)
      if (node.type === NodeTypes.TEXT || node.type === NodeTypes.COMMENT) edited.remove(node.loc.start.offset, node.loc.end.offset);
    places.forEach((place, number) => {
      edited.appendRight(place[0]!.loc.start.offset, `<template #p${number}>`);
      edited.appendLeft(place.at(-1)!.loc.end.offset, "</template>");
    });
    edited.prependRight(run[0]!.loc.start.offset, `${before}<Sentence of="${quoted(text)}">`);
    edited.appendLeft(run.at(-1)!.loc.end.offset, `</Sentence>${after}`);
  }

  private note(text: string): void {
    this.found[text] = text;
  }
}

export const expression = (node: Child): string => (node as unknown as { content: { loc: { source: string } } }).content.loc.source;
const quoted = (program: string): string => program.replaceAll("&", "&amp;").replaceAll('"', "&quot;");

/** The program that asks for a text: a tagged literal, with what stands in its places. */
function asked(text: string, values: string[] = []): string {
  const literal = text.replace(/[\\`]|\$(?=\{)/g, "\\$&").replaceAll("&", "\\u0026");
  const value = (place: string, number: string): string => {
    const found = values[Number(number)];
    return found === undefined ? place : `\${${found}}`;
  };
  return `t\`${literal.replace(/\{(\d+)\}/g, value)}\``;
}

const IMPORTS = { t: 'import { t } from "@/texts/sentences";', Sentence: 'import Sentence from "@/texts/Sentence";' };

/** Return a page with its texts asked for. */
export function asking(source: string): { code: string; map: ReturnType<Edited["generateMap"]> } | undefined {
  const { descriptor } = parse(source, { ignoreEmpty: false });
  const edited = new MagicString(source);
  const page = templateOf(descriptor, edited);
  if (!page || !Object.keys(page.found).length) return undefined;
  const script = descriptor.scriptSetup;
  const imported = [
    ...(/import \{[^}]*\bt\b[^}]*\} from "@\/texts\/sentences"/.test(script?.content ?? "") ? [] : [IMPORTS.t]),
    ...(page.component ? [IMPORTS.Sentence] : []),
  ].join("\n");
  if (script) edited.appendLeft(script.loc.start.offset, `\n${imported}`);
  else edited.prepend(`<script setup lang="ts">\n${imported}\n</script>\n`);
  return { code: edited.toString(), map: edited.generateMap({ hires: true }) };
}

/** Return all that a page's template says. */
export const saidByTemplate = (descriptor: SFCDescriptor): Sentences =>
  templateOf(descriptor, new MagicString(descriptor.source))?.found ?? {};

function templateOf(descriptor: SFCDescriptor, edited: Edited): Page | undefined {
  const root = descriptor.template?.ast;
  if (!root) return undefined;
  const page = new Page(edited);
  page.read(root);
  return page;
}

export const sentences = (): Plugin => ({
  name: "sentences",
  enforce: "pre",
  transform(source, id) {
    return id.endsWith(".vue") && !id.includes("node_modules") ? asking(source) : undefined;
  },
});
