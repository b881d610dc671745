// What failed, in the language that is spoken. The service says it in English, about the very case: in another language it
// is said by its kind; what that language has no words for stays English, and is marked as such for whoever listens.
import type { Problem } from "@/api/problems";
import { has, say, spoken } from ".";

const PREFIX = "urn:jamb:problem:";

export interface Told {
  detail: string;
  next_step: string;
  /** The language of the words, where it is not the page's. */
  lang?: string;
}

export function told(problem: Problem): Told {
  const kind = problem.type.startsWith(PREFIX) ? problem.type.slice(PREFIX.length) : "";
  const named = { detail: problem.detail, next_step: problem.next_step };
  if (spoken.value === "en" || !kind) return named;
  if (!has(`problems.${kind}.detail`)) return { ...named, lang: "en" };
  return { detail: say(`problems.${kind}.detail`), next_step: say(`problems.${kind}.next_step`) };
}
