// What stands in a page is asked for when the console is built, whole sentences with places; and the list of all of it is
// what a translator begins with.
import { mount } from "@vue/test-utils";
import { afterEach, expect, test } from "vitest";
import { defineComponent, h } from "vue";
import { type Texts, speak } from "@/texts";
import { LISTED, listed } from "@/texts/listed";
import Sentence from "@/texts/Sentence";
import { noted, t } from "@/texts/sentences";
import { count, figure } from "@/ui/use/words";
import description from "../../docs/openapi.json";
import { allSentences, saidBy, unmarked } from "../sentence-list";
import { asking } from "../sentences";

const PROGRAMS = import.meta.glob<string>(["/src/**/*.{vue,ts}", "!/src/api/schema.generated.ts"], {
  query: "?raw",
  import: "default",
  eager: true,
});
const page = (template: string, program = "") => `<script setup lang="ts">\n${program}</script>\n\n<template>${template}</template>\n`;
/** Return a template as it is built, without what stands around it. */
const built = (template: string) => /<template>([^]*)<\/template>\n$/.exec(asking(page(template))?.code ?? page(template))?.[1];

afterEach(() => speak("en"));

test.each([
  ["a text", "<p>Nothing waits.</p>", "<p>{{ t`Nothing waits.` }}</p>"],
  ["values within it", "<p>{{ n }} of {{ all() }} used</p>", "<p>{{ t`${n} of ${all()} used` }}</p>"],
  ["what would end the literal", "<p>A `tick` &amp; ${x} \\ it</p>", "<p>{{ t`A \\`tick\\` \\u0026 \\${x} \\\\ it` }}</p>"],
  [
    "elements within it, with what they say",
    '<p>Ask <a href="x">an owner</a> at {{ place }}.</p>',
    '<p><Sentence of="Ask {0} at {1}."><template #p0><a href="x">{{ t`an owner` }}</a></template><template #p1>{{ place }}</template></Sentence></p>',
  ],
  [
    "one of two elements, which is one place",
    '<p>It is <b v-if="on">on</b><i v-else>off</i> now</p>',
    '<p><Sentence of="It is {0} now"><template #p0><b v-if="on">{{ t`on` }}</b><i v-else>{{ t`off` }}</i></template></Sentence></p>',
  ],
  ["a field beside it", "<label>Days <input /></label>", "<label>{{ t`Days` }} <input /></label>"],
  ["a space that the line goes on with", "<p><b> and more</b></p>", '<p><b>{{ " " }}{{ t`and more` }}</b></p>'],
  [
    "what is read of an attribute",
    '<input aria-label="A &quot;name&quot;" class="wide" />',
    '<input :aria-label="t`A &quot;name&quot;`" class="wide" />',
  ],
  ["what is typed as it stands", "<p><code>jamb rotate</code> · {{ n }}</p>", "<p><code>jamb rotate</code> · {{ n }}</p>"],
])("in a page is asked for: %s", (_, template, expected) => {
  expect(built(template)).toBe(expected);
});

test("a page and its program are listed whole", () => {
  const source = page(
    '<PageHead title="Clients" :lead="t`of ${directory}`" @left="a = 1; say(t`Gone`)"><template #below>Since {{ day }}</template></PageHead>',
    'const said = { word: noted("ran out"), many: count(n, "reply"), some: count(n, "waits", "wait") };\n',
  );
  expect(saidBy("Page.vue", source)).toEqual({
    Clients: "Clients",
    Gone: "Gone",
    "of {0}": "of {0}",
    "Since {0}": "Since {0}",
    "ran out": "ran out",
    "{0} replies": { one: "{0} reply", other: "{0} replies" },
    "{0} wait": { one: "{0} waits", other: "{0} wait" },
  });
});

test("the list is of all that the console says: `npm run texts` writes it", async () => {
  const all = allSentences(PROGRAMS);
  await expect(`${JSON.stringify(all, null, 2)}\n`).toMatchFileSnapshot("../src/texts/en.pages.json");
});

// Selectors, styles, a scope, and what no reader sees.
const NO_TEXT = [
  /^(main|input|body|tbody|:hover) |^input[,:]|^\[/,
  /^-----BEGIN/,
  /^@layer|, sans-serif$|, monospace$/,
  /^openid /,
  /^no answer$|^There is no text/,
];
test.each(Object.entries(PROGRAMS))("%s marks what it says", (file, source) => {
  expect(unmarked(file, source).filter((text) => !NO_TEXT.some((form) => form.test(text)))).toEqual([]);
});

test("a word that a program puts into a sentence is marked, too", () => {
  expect(unmarked("a.ts", 'const said = t`made ${owners || "nobody"} its owner, ${late ? "late" : early}`;')).toEqual(["nobody", "late"]);
});

test("the words of closed lists are those of the service", () => {
  const kinds = ["Severity", "ClientKind", "ClientState", "RequestState", "InitialAccessState", "Effect", "DataClass", "Outcome"];
  const schemas = description.components.schemas as Record<string, { enum?: string[] }>;
  expect([...LISTED].sort()).toEqual(
    [...new Set(kinds.flatMap((kind) => schemas[kind]!.enum!.map((word) => word.replaceAll("-", " "))))].sort(),
  );
  expect([listed("not-granted"), listed("some-thing")]).toEqual(["not granted", "some thing"]);
});

const DUTCH = {
  pages: {
    "Ask {0} at {1}.": "Bij {1}: vraag {0}.",
    "{0} was removed.": "{0} is weg.",
    "ran out": "verlopen",
    "{0} clients": { one: "{0} klant", other: "{0} klanten" },
  },
} as unknown as Texts;

test("another language puts the places in its own order, and counts in its own forms", async () => {
  const Page = defineComponent({
    render: () => h("p", [h(Sentence, { of: "Ask {0} at {1}." }, { p0: () => h("a", "an owner"), p1: () => "Berths" })]),
  });
  const shown = mount(Page);
  const said = () => [shown.text(), t`${"Tide"} was removed.`, t(noted("ran out")), count(1, "client"), count(2500, "client"), figure(0.5)];
  expect(said()).toEqual(["Ask an owner at Berths.", "Tide was removed.", "ran out", "1 client", "2,500 clients", "0.5"]);
  await speak("nl", DUTCH);
  expect(said()).toEqual(["Bij Berths: vraag an owner.", "Tide is weg.", "verlopen", "1 klant", "2.500 klanten", "0,5"]);
  expect([t`Nobody said this yet.`, count(3, "berth")]).toEqual(["Nobody said this yet.", "3 berths"]);
  shown.unmount();
});

test("the language of marks says everything, with its places kept", async () => {
  await speak("qaa");
  expect(document.documentElement.lang).toBe("qaa");
  expect([t`${"Tide"} ran`, count(2, "client")].map((text) => text.replaceAll("\u0301", ""))).toEqual(["⟦Tide ran⟧", "⟦2 clients⟧"]);
});
