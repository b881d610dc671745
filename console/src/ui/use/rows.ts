// j and k move through the rows of a list, Enter opens one.
import { onBeforeUnmount, onMounted, ref } from "vue";

export function useRows(count: () => number, open: (place: number) => void) {
  const chosen = ref(-1);
  function onKey(event: KeyboardEvent): void {
    const target = event.target as HTMLElement;
    if (target.closest("input, textarea, select, [contenteditable]") || event.ctrlKey || event.metaKey || event.altKey) return;
    if (event.key === "j" || event.key === "k") {
      const step = event.key === "j" ? 1 : -1;
      chosen.value = Math.min(Math.max(chosen.value + step, 0), count() - 1);
      const row = document.getElementById(`row-${chosen.value}`);
      row?.focus();
      row?.scrollIntoView({ block: "nearest" });
    } else if (event.key === "Enter" && chosen.value >= 0 && !target.closest("a, button")) {
      open(chosen.value);
    }
  }
  onMounted(() => window.addEventListener("keydown", onKey));
  onBeforeUnmount(() => window.removeEventListener("keydown", onKey));
  return { chosen };
}
