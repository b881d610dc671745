// English in marks: what is not in them on a page could be said in no other language.
import type { Text, Texts } from ".";

const LETTERS = /(\{\w+\})|([A-Za-z])/g;

/** A text in marks, its letters accented, its places kept. */
const mark = (text: string): string =>
  `\u27e6${text.replace(LETTERS, (_, place: string, letter: string) => place ?? `${letter}\u0301`)}\u27e7`;

const each = (held: unknown): unknown =>
  typeof held === "string" ? mark(held) : Object.fromEntries(Object.entries(held as object).map(([key, text]) => [key, each(text)]));

/** Return all texts in marks: those with keys, and whatever a page says. */
export const marked = (english: Texts): Texts => ({
  ...(each(english) as Texts),
  pages: new Proxy<Record<string, Text>>({}, { get: (_, sentence) => mark(String(sentence)) }),
});
