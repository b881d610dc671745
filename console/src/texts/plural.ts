/** What several are called in English, of what one is: a rule, for words that a resource gives to its objects, too. */
export function plural(word: string): string {
  if (/(s|x|ch|sh)$/.test(word)) return `${word}es`;
  if (/[^aeiou]y$/.test(word)) return `${word.slice(0, -1)}ies`;
  return `${word}s`;
}
