// What would be lost by leaving: text that somebody typed, and what is shown once. Whoever leaves is asked first.
import { onBeforeUnmount, watchEffect } from "vue";
import { whenChanged } from "@/api/client";
import { say } from "@/texts";
import { askFirst } from "./ask";

const FIELDS = "input:not([type=checkbox]):not([type=radio]):not([type=search]), textarea, select";
// What stood in a field when somebody began to change it.
const before = new Map<HTMLInputElement, string>();
const shownOnce = new Set<string>();

/** Whatever was typed is saved: nothing would be lost by leaving. */
export const saved = (): void => before.clear();

/** Whether a form has text that was neither saved nor put away. */
export function isUnsaved(): boolean {
  for (const [field, was] of before) if (!field.isConnected || field.value === was) before.delete(field);
  return before.size > 0;
}

/** Watch what is typed into forms. Those that only ask are none of them: searches, and what is marked `data-filter`. */
export function watchTyping(): void {
  whenChanged(saved);
  document.addEventListener("beforeinput", (event) => {
    const field = event.target as HTMLInputElement;
    if (
      field.matches?.(FIELDS) &&
      field.closest("main form") &&
      !field.closest("[role=search], [data-filter], dialog") &&
      !before.has(field)
    )
      before.set(field, field.value);
  });
  window.addEventListener("beforeunload", (event) => {
    if (isUnsaved() || shownOnce.size) event.preventDefault();
  });
}

/** Hold whoever leaves while something is shown that is never shown again; `what` says what. */
export function useShownOnce(what: () => string | null): void {
  let held = "";
  const release = () => void shownOnce.delete(held);
  watchEffect(() => {
    release();
    held = what() ?? "";
    if (held) shownOnce.add(held);
  });
  onBeforeUnmount(release);
}

/** Tell whether a part of the page may be closed: what is shown once is only given up by whoever says so. */
export async function mayClose(): Promise<boolean> {
  const [once] = shownOnce;
  if (!once) return true;
  const leaves = await askFirst({
    title: say("over.once.title", { what: once }),
    text: say("over.once.text"),
    yes: say("over.once.leave", { what: once }),
    no: say("over.unsaved.stay"),
  });
  if (leaves) shownOnce.clear();
  return leaves;
}

/** Tell whether the page may be left: at once where nothing would be lost, else as whoever is asked answers. */
export async function mayLeave(): Promise<boolean> {
  if (!(await mayClose())) return false;
  if (!isUnsaved()) return true;
  const leaves = await askFirst({
    title: say("over.unsaved.title"),
    text: say("over.unsaved.text"),
    yes: say("over.unsaved.leave"),
    no: say("over.unsaved.stay"),
  });
  if (leaves) saved();
  return leaves;
}
