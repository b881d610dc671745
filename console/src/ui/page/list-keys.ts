// j, k and the arrows move through the rows of whatever list is on the page, from link to link; Enter opens it, as it does
// everywhere. Lists that open a row by themselves have their own (`ui/use/rows.ts`).
const STEPS: Record<string, number> = { j: 1, ArrowDown: 1, k: -1, ArrowUp: -1 };
const OWN = "[data-own-keys]";

const firstOf = (row: Element): HTMLElement | null => row.querySelector<HTMLElement>("a[href], button:not([disabled])");

/** Move to another row; tell whether there is a list to move in. */
function move(step: number, from: HTMLElement): boolean {
  const table = from.closest("main table.log") ?? document.querySelector("main table.log");
  if (!table || table.closest(OWN) || document.querySelector(OWN)) return false;
  const rows = [...table.querySelectorAll("tbody tr")].filter((row) => firstOf(row));
  if (!rows.length) return false;
  const here = rows.findIndex((row) => row.contains(from));
  const next = rows[Math.min(Math.max(here + step, 0), rows.length - 1)];
  const target = next && firstOf(next);
  target?.focus();
  target?.scrollIntoView({ block: "nearest" });
  return true;
}

export function watchListKeys(): void {
  window.addEventListener("keydown", (event) => {
    const step = STEPS[event.key];
    const target = event.target as HTMLElement;
    if (!step || event.ctrlKey || event.metaKey || event.altKey) return;
    if (target.closest?.("input, textarea, select, [contenteditable], dialog, [role=listbox], nav")) return;
    // The arrows scroll the page until somebody is in a list.
    if (event.key.startsWith("Arrow") && !target.closest("table.log")) return;
    if (move(step, target)) event.preventDefault();
  });
}
