// A program's User-Agent header in words: its name and what it runs on, of those that people use.
import { t } from "@/texts/sentences";

const PROGRAMS: [RegExp, string][] = [
  [/Edg\/(\d+)/, "Edge"],
  [/OPR\/(\d+)/, "Opera"],
  [/Firefox\/(\d+)/, "Firefox"],
  [/(?:Headless)?Chrom(?:e|ium)\/(\d+)/, "Chromium"],
  [/Version\/(\d+).* Safari\//, "Safari"],
];
const SYSTEMS: [RegExp, string][] = [
  [/Android/, "Android"],
  [/iPhone|iPad/, "iOS"],
  [/Windows/, "Windows"],
  [/Mac OS X/, "macOS"],
  [/Linux/, "Linux"],
];

/** Return what a header tells of a browser; where it is none that is known, its beginning. */
export function agentWords(header: string): string {
  for (const [pattern, name] of PROGRAMS) {
    const found = pattern.exec(header);
    if (!found) continue;
    const system = SYSTEMS.find(([known]) => known.test(header))?.[1];
    return `${name} ${found[1]}${system ? `, ${system}` : ""}`;
  }
  return header.slice(0, 40) || t`not known`;
}
