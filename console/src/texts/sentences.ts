// What stands in a page itself, in English, is said in the language that is spoken. What a program says is marked by `t`; what
// a template holds as text is asked for when the console is built (../../sentences.ts).
import { ofPages, split, spoken } from ".";

/** The language of numbers and days: English as it is written where the day stands before the month. */
export const tag = (): string => (spoken.value === "en" ? "en-GB" : spoken.value);

const keys = new WeakMap<TemplateStringsArray, string>();

function keyOf(words: TemplateStringsArray): string {
  const known = keys.get(words) ?? words.reduce((before, after, number) => `${before}{${number - 1}}${after}`);
  keys.set(words, known);
  return known;
}

/** Say what is written, with what stands in its places: t`${name} was removed.` Alone: a text that was `noted`. */
export function t(words: TemplateStringsArray | string, ...places: unknown[]): string {
  const english = typeof words === "string" ? words : keyOf(words);
  return filled(partsOfSentence(english), places);
}

/** Mark a text that is said later, by `t`: what a module holds is made before a language is spoken. */
export const noted = (english: string): string => english;

// A list says the same in each of its rows.
const englishParts = new Map<string, string[]>();

/** Return a sentence in its parts: words, and between them the numbers of its places. */
export function partsOfSentence(english: string): string[] {
  const theirs = ofPages(english);
  if (theirs !== undefined) return split(theirs);
  const known = englishParts.get(english) ?? split(english);
  englishParts.set(english, known);
  return known;
}

/** Say how many there are of something: in English one, or several; in another language in the form for so many. */
export function counted(many: number, figure: string, one: string, more: string): string {
  const theirs = ofPages(`{0} ${more}`);
  return theirs === undefined ? `${figure} ${many === 1 ? one : more}` : filled(split(theirs, many), [figure]);
}

const filled = (parts: string[], places: unknown[]): string =>
  parts.length === 1 ? parts[0]! : parts.map((part, number) => (number % 2 ? String(places[Number(part)] ?? "") : part)).join("");
