// The pages of the guide: each comes when it is opened; all of them when one looks for a word.
import type { GuidePage } from "../../../guide";
import { noted, t } from "@/texts/sentences";

const GUIDE = import.meta.glob<GuidePage>("../../../../docs/guide/*.md", { import: "default" });
const REFERENCE = import.meta.glob<GuidePage>("../../../../docs/{glossary,operations,security,audit-rules}.md", { import: "default" });
const byName = new Map<string, () => Promise<GuidePage>>(
  Object.entries({ ...GUIDE, ...REFERENCE }).map(([path, load]) => [path.slice(path.lastIndexOf("/") + 1, -3), load]),
);
byName.set("api", () => import("../../../../docs/openapi.json?page").then((found: { default: GuidePage }) => found.default));

/** What the list beside the page shows, in this order. */
export const PAGES = [
  { name: "index", title: noted("Where to begin") },
  { name: "registrar", title: noted("For a registrar") },
  { name: "approver", title: noted("For an approver") },
  { name: "custodian", title: noted("For a custodian") },
  { name: "auditor", title: noted("For an auditor") },
  { name: "owner", title: noted("For an owner") },
  { name: "steward", title: noted("For a steward") },
  { name: "integrator", title: noted("For an integrator") },
  { name: "operator", title: noted("For an operator") },
  { name: "audit-rules", title: noted("What the audit looks for") },
  { name: "operations", title: noted("Operations") },
  { name: "security", title: noted("Security") },
  { name: "api", title: noted("The API") },
  { name: "glossary", title: noted("Glossary") },
];

export const isPage = (name: string) => byName.has(name);

export const readPage = (name: string): Promise<GuidePage> => {
  const load = byName.get(name);
  return load ? load() : Promise.reject(new Error(t`The guide has no page “${name}”.`));
};

export interface Hit {
  to: string;
  page: string;
  title: string;
  text: string;
}

const MOST_HITS = 20;
const SHOWN = 140;

/** The sections with all these words, those with one in their title first. */
export async function look(words: string): Promise<Hit[]> {
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean);
  if (!wanted.length) return [];
  const found: (Hit & { rank: number })[] = [];
  for (const { name, title: page } of PAGES) {
    for (const { id, title, text } of (await readPage(name)).sections) {
      const whole = `${title} ${text}`.toLowerCase();
      if (!wanted.every((word) => whole.includes(word))) continue;
      const rank = wanted.filter((word) => title.toLowerCase().includes(word)).length;
      const at = Math.max(0, text.toLowerCase().indexOf(wanted[0] ?? "") - 40);
      found.push({
        rank,
        page: t(page),
        title,
        to: `/help${name === "index" ? "" : `/${name}`}${id ? `#${id}` : ""}`,
        text: `${at ? "… " : ""}${text.slice(at, at + SHOWN).trim()}${text.length > at + SHOWN ? " …" : ""}`,
      });
    }
  }
  return found.sort((one, other) => other.rank - one.rank).slice(0, MOST_HITS);
}
