// Stands in for Naive UI's server-side style collector: it hands every style sheet of a component to us, and we adopt it
// as a constructed sheet. Nothing is inline, so the page's policy needs no exception. The sheets go into a cascade layer
// of their own: rules of ours, which are in none, win without any fight over specificity.
const ids = new Set<string>();

function adopt(id: string, css: string): void {
  if (ids.has(id)) return;
  ids.add(id);
  const sheet = new CSSStyleSheet();
  sheet.replaceSync(`@layer naive { ${css} }`);
  document.adoptedStyleSheets = [...document.adoptedStyleSheets, sheet];
}

export function useSsrAdapter() {
  return { adapter: adopt, context: { ids, styles: [] as string[] } };
}
