// What was typed is kept for the tab, until it is saved or given up: a reload loses nothing.
import { type Ref, onBeforeUnmount, ref, watch } from "vue";
import { current, directory } from "@/api/session";

/** Keep fields under a name; they come back as they were typed. `restored` says that they did. */
export function useDraft(name: string, fields: Record<string, Ref<unknown>>) {
  const key = `jamb.draft.${directory.value}.${current.value?.person.id ?? ""}.${name}`;
  const first = JSON.stringify(written());
  const restored = ref(false);
  let over = false;

  function written(): Record<string, unknown> {
    return Object.fromEntries(Object.entries(fields).map(([field, value]) => [field, value.value]));
  }
  function put(from: Record<string, unknown>): void {
    for (const [field, value] of Object.entries(fields)) if (field in from) value.value = from[field];
  }
  const kept = sessionStorage.getItem(key);
  if (kept && kept !== first) {
    put(JSON.parse(kept) as Record<string, unknown>);
    restored.value = true;
  }
  const stop = watch(written, (now) => {
    const text = JSON.stringify(now);
    if (over || text === first) sessionStorage.removeItem(key);
    else sessionStorage.setItem(key, text);
  });
  onBeforeUnmount(stop);

  /** It is saved, or nobody wants it: forget it. */
  function done(): void {
    over = true;
    sessionStorage.removeItem(key);
    restored.value = false;
  }
  function afresh(): void {
    put(JSON.parse(first) as Record<string, unknown>);
    restored.value = false;
  }
  return { restored, done, afresh };
}
