// All that the console says, in English: the list that a translator begins with; and what a program says that nothing marks.
import { type DirectiveNode, type ElementNode, NodeTypes, type RootNode } from "@vue/compiler-dom";
import { type SFCDescriptor, babelParse, parse, walk } from "@vue/compiler-sfc";
import { type Child, type Sentences, expression, saidByTemplate } from "./sentences.ts";
import { plural } from "./src/texts/plural.ts";

/** Return all that a file says: a page, or a program. */
export function saidBy(file: string, source: string): Sentences {
  if (!file.endsWith(".vue")) return inProgram(source);
  const { descriptor } = parse(source, { ignoreEmpty: false });
  return Object.assign(saidByTemplate(descriptor), ...programsOf(descriptor).map(inProgram)) as Sentences;
}

/** Return the programs of a page: its script, and those within its template. */
const programsOf = ({ scriptSetup, template }: SFCDescriptor): string[] => [scriptSetup?.content ?? "", ...within(template?.ast)];

/** Yield the programs within a template, but for those of loops and slots: nothing is said there. */
function* within(node: RootNode | Child | undefined): Generator<string> {
  if (!node) return;
  if (node.type === NodeTypes.INTERPOLATION) yield `(${expression(node as Child)})`;
  if (node.type === NodeTypes.ELEMENT) {
    for (const prop of (node as ElementNode).props) {
      const { type, name, exp } = prop as DirectiveNode;
      if (type !== NodeTypes.DIRECTIVE || !exp || ["for", "slot"].includes(name)) continue;
      // What is done at an event may be several statements.
      yield name === "on" ? exp.loc.source : `(${exp.loc.source})`;
    }
  }
  for (const child of "children" in node ? (node.children as Child[]) : []) yield* within(child);
}

type Syntax = Record<string, unknown> & { type: string };
const named = (node: unknown, ...names: string[]): boolean => names.includes(String((node as { name?: string } | undefined)?.name));
const literal = (node: unknown): string | undefined =>
  (node as Syntax | undefined)?.type === "StringLiteral" ? String((node as { value: string }).value) : undefined;
const written = (node: Syntax): string => {
  const { quasis } = node as unknown as { quasis: { value: { cooked: string } }[] };
  return quasis.map((part, number) => (number ? `{${number - 1}}${part.value.cooked}` : part.value.cooked)).join("");
};

function eachNode(program: string, read: (node: Syntax, parent: Syntax | null) => void): void {
  const { program: root } = babelParse(program, { sourceType: "module", plugins: ["typescript"] });
  walk(root as never, { enter: (node: unknown, parent: unknown) => read(node as Syntax, parent as Syntax | null) } as never);
}

function inProgram(program: string): Sentences {
  const found: Sentences = {};
  eachNode(program, (node) => {
    if (node.type === "TaggedTemplateExpression" && named(node.tag, "t")) {
      const text = written(node.quasi as Syntax);
      found[text] = text;
    }
    if (node.type !== "CallExpression") return;
    const [first, second, third] = (node.arguments as unknown[]).map(literal);
    if (named(node.callee, "noted") && first !== undefined) found[first] = first;
    if (named(node.callee, "count") && second !== undefined) {
      const more = third ?? plural(second);
      found[`{0} ${more}`] = { one: `{0} ${second}`, other: `{0} ${more}` };
    }
  });
  return found;
}

/** Return the texts that an expression may come to. */
function outcomes(node: unknown): string[] {
  const found = literal(node);
  if (found !== undefined) return [found];
  const { type, right, consequent, alternate } = node as Syntax;
  if (type === "LogicalExpression") return outcomes(right);
  return type === "ConditionalExpression" ? [...outcomes(consequent), ...outcomes(alternate)] : [];
}

const LETTER = /\p{L}/u;
const WORDS = /\p{L}{2,} (\{\d\} )?\p{L}{2,}/u;

/** Return what looks like a text in a file's programs, and that nothing marks as one. */
export function unmarked(file: string, source: string): string[] {
  const programs = file.endsWith(".vue") ? programsOf(parse(source, { ignoreEmpty: false }).descriptor) : [source];
  const found: string[] = [];
  for (const program of programs)
    eachNode(program, (node, parent) => {
      const text = literal(node) ?? (node.type === "TemplateLiteral" ? written(node) : "");
      const marked =
        parent && ((named(parent.callee, "noted", "count") && parent.callee !== node) || parent.type === "TaggedTemplateExpression");
      if (node.type === "TaggedTemplateExpression" && named(node.tag, "t"))
        found.push(...(node.quasi as { expressions: unknown[] }).expressions.flatMap(outcomes).filter((one) => LETTER.test(one)));
      if (WORDS.test(text) && !marked && !/^TS|^Import|Member/.test(parent?.type ?? "")) found.push(text);
    });
  return found;
}

/** Return all that these files say, by their paths, in the order of the alphabet. */
export function allSentences(files: Record<string, string>): Sentences {
  const found = Object.entries(files).flatMap(([file, source]) => Object.entries(saidBy(file, source)));
  return Object.fromEntries(found.sort(([one], [other]) => (one < other ? -1 : 1)));
}
