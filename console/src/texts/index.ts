// What people read on the pages that are for everybody: signing in, allowing, and all that is their own.
// Another language is another file here, named by its tag (BCP 47), with the same keys; what it leaves out is English.
// Without a library: one that is known adds a quarter to the first load, and this is a text with places.
import { computed, ref, shallowReactive } from "vue";
import english from "./en.json";

// By the categories of CLDR that a language counts in.
export type Text = string | (Partial<Record<Intl.LDMLPluralRule, string>> & { other: string });
export type Texts = typeof english & { pages?: Record<string, Text> };

const files: Record<string, () => Promise<Texts>> = {
  ...import.meta.glob<Texts>(["./*.json", "!./en*.json"], { import: "default" }),
  // A language for private use (BCP 47): English in marks, which shows what no other language could say.
  "qaa.json": () => import("./marked").then(({ marked }) => marked(english)),
};
const tagOf = (file: string): string => file.replace(/^.*\/|\.json$/g, "");
/** The languages that there are, by their tags. */
export const languages: readonly string[] = ["en", ...Object.keys(files).map(tagOf)];

const known = shallowReactive<Record<string, Texts>>({ en: english });
const language = ref("en");
const plurals = computed(() => new Intl.PluralRules(language.value));
const PLACE = /\{(\w+)\}/;

function found(key: string): Text {
  for (const texts of [known[language.value], english]) {
    const held = inTexts(texts, key);
    if (held !== undefined) return held as Text;
  }
  throw new Error(`There is no text ${key}.`);
}

/** The language that is spoken, by its tag. */
export const spoken = computed(() => language.value);

/** Whether the language that is spoken has a text of its own. */
export function has(key: string): boolean {
  return inTexts(known[language.value], key) !== undefined;
}

function inTexts(texts: Texts | undefined, key: string): unknown {
  let held: unknown = texts;
  for (const part of key.split(".")) held = (held as Record<string, unknown> | undefined)?.[part];
  return held;
}

/** Return what a page says in the language that is spoken, by its English words; nothing where that is English. */
export function ofPages(english: string): Text | undefined {
  return known[language.value]?.pages?.[english];
}

/** Return a text in its parts: words, and between them the names of its places. */
export const partsOf = (key: string, count?: number): string[] => split(found(key), count);

/** Return the parts of a text; of a number of things in the form for so many. */
export function split(text: Text, count?: number): string[] {
  return (typeof text === "string" ? text : (text[plurals.value.select(count ?? 0)] ?? text.other)).split(PLACE);
}

/** Return a text by its key, with what stands in its places; of a number of things (`count`) in the form for so many. */
export function say(key: string, places: Record<string, unknown> & { count?: number } = {}): string {
  return partsOf(key, places.count)
    .map((part, number) => (number % 2 ? String(places[part] ?? "") : part))
    .join("");
}

/** Return the first language that is wanted and that there is: exactly, or else without its region. */
export function languageFor(wanted: readonly string[], there: readonly string[] = languages): string {
  for (const tag of wanted) {
    const exact = there.find((one) => one.toLowerCase() === tag.toLowerCase());
    const near = exact ?? there.find((one) => one === tag.split("-")[0]?.toLowerCase());
    if (near) return near;
  }
  return "en";
}

// What was asked for last: a file that comes late is not spoken on a page that is in another language.
let asked = 0;

/** Speak a language, and say so to whoever reads the page aloud; what does not come leaves it as it was.
 *  `texts`: its texts, where they are no file here. */
export async function speak(wanted: string, texts?: Texts | Promise<Texts>): Promise<void> {
  const number = ++asked;
  const file = Object.keys(files).find((one) => tagOf(one) === wanted);
  const come = (await texts) ?? known[wanted] ?? (await files[file ?? ""]?.().catch(() => undefined));
  if (!come || number !== asked) return;
  known[wanted] = come;
  language.value = wanted;
  document.documentElement.lang = wanted;
}
