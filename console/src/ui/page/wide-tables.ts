// A table that is wider than its place moves sideways within it: then it takes the focus, so that keys move it, too.
let pending = 0;

function look(): void {
  for (const table of document.querySelectorAll<HTMLElement>("main table.log")) {
    const wide = table.scrollWidth > table.clientWidth + 1;
    if (wide) table.tabIndex = 0;
    else table.removeAttribute("tabindex");
  }
}

export function watchTables(): void {
  const soon = () => {
    window.clearTimeout(pending);
    pending = window.setTimeout(look, 100);
  };
  window.addEventListener("resize", soon);
  new MutationObserver(soon).observe(document.body, { childList: true, subtree: true });
}
