// What keeps a page from being shown at all: the service is away at the start, or the page's own part cannot be loaded.
import { shallowRef } from "vue";

export interface Failure {
  /** `start`: nothing is known of who is signed in yet. `part`: a part of the console itself did not come. */
  kind: "start" | "part";
  error: unknown;
  /** Where the person wanted to go. */
  to: string;
}

export const failed = shallowRef<Failure | null>(null);

const LOADED_ANEW = "jamb.loaded-anew";
const ONCE_IN = 60_000;

/** After an update the parts have other names: load the console anew, unless that was tried just now. */
export function loadAnew(to: string): boolean {
  const last = Number(sessionStorage.getItem(LOADED_ANEW) ?? 0);
  if (Date.now() - last < ONCE_IN) return false;
  sessionStorage.setItem(LOADED_ANEW, String(Date.now()));
  window.location.assign(to);
  return true;
}
