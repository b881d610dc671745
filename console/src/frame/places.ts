import { noted, t } from "@/texts/sentences";

// The pages that one can go to, by name: the rail shows some, and what finds anything finds them all.
export interface Place {
  /** In English: shown by `t`. */
  name: string;
  /** Its route. */
  page: string;
  /** What somebody must be allowed to do for it to show anything; none: it is everybody's. */
  needs?: string;
}

export const PLACES: readonly Place[] = [
  { name: noted("Today"), page: "today", needs: "today.read" },
  { name: noted("Clients"), page: "clients", needs: "clients.list" },
  { name: noted("Register a client"), page: "register", needs: "clients.register" },
  { name: noted("Compare a charter"), page: "charter", needs: "charters.compare" },
  { name: noted("Removed clients"), page: "removed", needs: "removals.list" },
  { name: noted("Consent desk"), page: "desk", needs: "requests.list" },
  { name: noted("Every consent"), page: "consents", needs: "consents.list" },
  { name: noted("Rotation"), page: "rotation", needs: "rotations.list" },
  { name: noted("Audit"), page: "audit", needs: "audit.read" },
  { name: noted("Excess"), page: "excess", needs: "excess.rank" },
  { name: noted("Escalation paths"), page: "escalation", needs: "escalation.read" },
  { name: noted("Reviews"), page: "reviews", needs: "reviews.mine" },
  { name: noted("Resources"), page: "resources", needs: "resources.list" },
  { name: noted("People"), page: "people", needs: "people.list" },
  { name: noted("Directory"), page: "directory", needs: "ledger.read" },
  { name: noted("Your sign-in"), page: "password" },
  { name: noted("Your applications"), page: "applications" },
  { name: noted("Let a device in"), page: "device" },
  { name: noted("Help"), page: "help" },
  { name: noted("Read a token"), page: "token" },
];
const MOST = 5;
const wordsOf = (text: string): string[] =>
  text
    .toLowerCase()
    .split(/[^\p{L}\p{N}]+/u)
    .filter(Boolean);

const shows = (place: Place, may: (operation: string) => boolean): boolean => !place.needs || may(place.needs);

/** Return some pages by their routes, in that order: those that show this person anything. */
export function placesAt(pages: readonly string[], may: (operation: string) => boolean): Place[] {
  const found = pages.map((page) => PLACES.find((place) => place.page === page)!);
  return found.filter((place) => shows(place, may));
}

/** Return the first few pages of whose name each of these words begins one. */
export function placesNamed(text: string, may: (operation: string) => boolean): Place[] {
  const wanted = wordsOf(text);
  if (!wanted.length) return [];
  const fits = (place: Place) => wanted.every((begins) => wordsOf(t(place.name)).some((word) => word.startsWith(begins)));
  return PLACES.filter((place) => shows(place, may) && fits(place)).slice(0, MOST);
}

// Where everybody may begin.
const FIRST = ["today", "clients", "applications"];

/** Return the pages that an address may have meant at which nothing is: those named like its last words, then like others;
 *  the first pages where it is like none. */
export function placesFor(path: string, may: (operation: string) => boolean): Place[] {
  const words = wordsOf(path)
    .filter((word) => word.length > 2)
    .reverse();
  const called = words.flatMap((word) => PLACES.filter((place) => place.page === word && shows(place, may)));
  const near = words.flatMap((word) => placesNamed(word, may));
  const found = [...new Set([...called, ...near])].slice(0, MOST);
  return found.length ? found : placesAt(FIRST, may);
}
