// j and k move through the rows of a list, Enter opens one.
import { onBeforeUnmount, onMounted, ref } from "vue";

export function useRows(count: () => number, open: (place: number) => void) {
  const chosen = ref(-1);
  function onKey(event: KeyboardEvent): void {
    const target = event.target as HTMLElement;
    if (target.closest("input, textarea, select, [contenteditable]") || event.ctrlKey || event.metaKey || event.altKey) return;
    const within = target.id.startsWith("row-");
    const step =
      event.key === "j" || (within && event.key === "ArrowDown") ? 1 : event.key === "k" || (within && event.key === "ArrowUp") ? -1 : 0;
    if (step) {
      event.preventDefault();
      chosen.value = Math.min(Math.max(chosen.value + step, 0), count() - 1);
      const row = document.getElementById(`row-${chosen.value}`);
      row?.focus();
      row?.scrollIntoView({ block: "nearest" });
    } else if (event.key === "Enter" && chosen.value >= 0 && !target.closest("a, button")) {
      open(chosen.value);
    }
  }
  useOwnKeys(onKey);
  return { chosen };
}

/** Listen to keys while this page is there; the keys of other lists are silent then (`ui/page/list-keys.ts`). */
export function useOwnKeys(onKey: (event: KeyboardEvent) => void): void {
  onMounted(() => {
    window.addEventListener("keydown", onKey);
    document.querySelector("main")?.setAttribute("data-own-keys", "");
  });
  onBeforeUnmount(() => {
    window.removeEventListener("keydown", onKey);
    document.querySelector("main")?.removeAttribute("data-own-keys");
  });
}
