// Within a row of buttons the arrows move, and the Tab key leaves it at once (WAI-ARIA Authoring Practices, toolbar).
const STEPS: Record<string, number> = { ArrowRight: 1, ArrowDown: 1, ArrowLeft: -1, ArrowUp: -1 };

/** Move the focus by an arrow, where it is on a button of the row whose handler this is. */
export function byArrows(event: KeyboardEvent): void {
  const step = STEPS[event.key];
  const buttons = [...(event.currentTarget as HTMLElement).querySelectorAll<HTMLElement>("button")];
  const at = buttons.indexOf(event.target as HTMLElement);
  if (!step || at < 0) return;
  event.preventDefault();
  event.stopPropagation();
  buttons[(at + step + buttons.length) % buttons.length]?.focus();
}
