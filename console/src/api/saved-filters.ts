// Filters of a list that somebody saved by a name, in this browser, for this person and directory.
import { computed, ref } from "vue";
import type { LocationQuery } from "vue-router";
import { current, directory } from "@/api/session";

export interface SavedFilter {
  name: string;
  query: Record<string, string>;
}
// The oldest goes when there are more.
const MOST = 20;
// Where in the list one is belongs to no filter.
const PLACE = new Set(["cursor", "from", "finding"]);

/** What of an address is a filter. */
export function filterOf(query: LocationQuery): Record<string, string> {
  const parts = Object.entries(query).filter(([name, value]) => !PLACE.has(name) && typeof value === "string" && value !== "");
  return Object.fromEntries(parts.sort()) as Record<string, string>;
}

function read(text: string | null): SavedFilter[] {
  try {
    const found = JSON.parse(text ?? "[]") as unknown;
    return Array.isArray(found) ? found.filter(isFilter) : [];
  } catch {
    return [];
  }
}
function isFilter(one: unknown): one is SavedFilter {
  const { name, query } = (one ?? {}) as Partial<SavedFilter>;
  return (
    typeof name === "string" &&
    typeof query === "object" &&
    query !== null &&
    Object.values(query).every((part) => typeof part === "string")
  );
}

/** `list`: which one the filters are of. */
export function useSavedFilters(list: string) {
  const key = computed(() => `jamb.filters.${directory.value}.${current.value?.person.id ?? ""}.${list}`);
  const changes = ref(0);
  const saved = computed(() => {
    void changes.value;
    return read(localStorage.getItem(key.value));
  });
  function keep(filters: SavedFilter[]): void {
    localStorage.setItem(key.value, JSON.stringify(filters.slice(-MOST)));
    changes.value += 1;
  }
  return {
    saved,
    /** Saved by the same name again, it is the new one. */
    save: (name: string, query: Record<string, string>) =>
      keep([...saved.value.filter((one) => one.name !== name.trim()), { name: name.trim(), query }]),
    forget: (name: string) => keep(saved.value.filter((one) => one.name !== name)),
  };
}
