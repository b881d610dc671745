// When somebody was here last, in this browser, and which change was the newest then.
import { current, directory } from "@/api/session";

export interface Visit {
  at: number;
  sequence: number;
}
// Whoever comes back sooner goes on with the same visit.
const AWAY_MS = 3_600_000;

/** Note that somebody sees the changes up to `newest`, and return the visit before this one; null: there was none. */
export function visited(newest: number, at: number): Visit | null {
  const key = `jamb.visit.${directory.value}.${current.value?.person.id ?? ""}`;
  const kept = read(localStorage.getItem(key));
  const before = kept && at - kept.at > AWAY_MS ? { at: kept.at, sequence: kept.sequence } : (kept?.before ?? null);
  localStorage.setItem(key, JSON.stringify({ at, sequence: newest, before }));
  return before;
}

const isVisit = (one: Partial<Visit> | null | undefined): one is Visit => typeof one?.at === "number" && typeof one.sequence === "number";

function read(text: string | null): (Visit & { before: Visit | null }) | null {
  try {
    const found = JSON.parse(text ?? "null") as (Visit & { before?: Partial<Visit> | null }) | null;
    return isVisit(found) ? { ...found, before: isVisit(found.before) ? found.before : null } : null;
  } catch {
    return null;
  }
}
