// The focus stays where the person is. What had it may go away by what it did, or be unusable while that goes on: then it
// is given to what stands in its place, and back.
const FOCUSABLE = "a[href], button:not([disabled]), input:not([disabled]), select:not([disabled]), textarea:not([disabled]), [tabindex]";
// What had the focus last, and all that it stood in.
let last: HTMLElement | null = null;
let around: HTMLElement[] = [];
// What has it meanwhile: what is unusable has none, and it must not fall to the page's beginning.
let meanwhile: HTMLElement | null = null;
// Whether it can have it for that time alone.
let lent = false;

function note(event: FocusEvent): void {
  if (event.target === meanwhile) return;
  stopWaiting();
  last = event.target as HTMLElement;
  around = [];
  for (let one = last.parentElement; one && one !== document.body; one = one.parentElement) around.push(one);
}

function giveBack(): void {
  const now = document.activeElement;
  if (!last || (now && now !== document.body && now !== meanwhile)) return;
  if (last.isConnected) {
    if (!last.matches(":disabled") && last.getClientRects().length) last.focus({ preventScroll: true });
    else if (now !== meanwhile && last.parentElement) wait(last.parentElement);
    return;
  }
  const place = around.find((one) => one.isConnected);
  // Of the whole page the heading: a page that changed is begun from its top.
  if (!place || place.matches("main, .frame, #app")) {
    const [heading, page] = ["main h1", "main"].map((what) => document.querySelector<HTMLElement>(what));
    if (heading) heading.focus({ preventScroll: true });
    // It is still to come.
    else if (page && now !== meanwhile) wait(page);
    return;
  }
  const next = [...place.querySelectorAll<HTMLElement>(FOCUSABLE)].find((one) => one.getClientRects().length);
  if (next) return next.focus({ preventScroll: true });
  place.tabIndex = -1;
  place.focus({ preventScroll: true });
}

function stopWaiting(): void {
  meanwhile?.classList.remove("waits");
  if (lent) meanwhile?.removeAttribute("tabindex");
  meanwhile = null;
}

function wait(place: HTMLElement): void {
  stopWaiting();
  meanwhile = place;
  lent = !place.hasAttribute("tabindex");
  place.tabIndex = -1;
  place.classList.add("waits");
  place.focus({ preventScroll: true });
}

export function keepFocus(): void {
  let pending = 0;
  document.addEventListener("focusin", note);
  // Whoever presses beside everything wants it nowhere.
  document.addEventListener("pointerdown", (event) => {
    if (!(event.target as HTMLElement).closest(FOCUSABLE)) last = null;
  });
  new MutationObserver(() => {
    // At once, and not at the page's beginning for as long as a busy machine takes: where it belongs is seen after that.
    const page = last && !last.isConnected && document.activeElement === document.body ? document.querySelector("main") : null;
    if (page) wait(page);
    // Soon, however much goes on changing.
    pending ||= window.setTimeout(() => {
      pending = 0;
      giveBack();
    }, 60);
  }).observe(document.body, { childList: true, subtree: true, attributes: true, attributeFilter: ["disabled"] });
}
