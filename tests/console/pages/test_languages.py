"""Another language is a file: in one that puts marks about all that it says, nothing else stands on a page but data."""

from __future__ import annotations

import re
from contextlib import suppress

from playwright.sync_api import Error, Page, Response

from tests.console.browser import Open
from tests.world import World

# English in marks, for private use (BCP 47): `console/src/texts/marked.ts`.
MARKED = "qaa"
PAGES = [
    "/",
    "/clients",
    "/clients?q=nothing-like-it",
    "/register",
    "/charter",
    "/desk",
    "/desk?past",
    "/rotation?within=90",
    "/audit",
    "/audit/excess",
    "/audit/escalation-paths",
    "/audit/consents",
    "/audit/removed",
    "/reviews",
    "/resources/berths",
    "/people?open=assign:quay-hand",
    "/people?open=group:control-room",
    "/directory",
    "/token",
    "/no/such/page",
]
# What is read or read aloud, but for what is typed as it stands, and for times: a browser says these.
READ = """() => {
  const asItStands = "script, style, code, kbd, pre, textarea, time";
  const found = [];
  const read = (node) => {
    if (node.nodeType === Node.TEXT_NODE) return found.push(node.data);
    if (node.nodeType !== Node.ELEMENT_NODE || node.matches(asItStands)) return;
    for (const name of ["aria-label", "title", "placeholder", "alt"]) found.push(node.getAttribute(name) ?? "");
    node.childNodes.forEach(read);
  };
  read(document.body);
  return found;
}"""
WORD = re.compile(r"[^\W\d_]{2,}")
# Names: of ours, and of what is the same in every language.
NAMES = {"jamb", "utc", "csv", "sarif", "json", "http", "env", "curl", "python", "javascript"}
# What the browser says of times where it does not know the language.
TIMES = set(
    WORD.findall(
        "in ago sec min hr day days hours minutes jan feb mar apr may jun jul aug sep oct nov dec"
        " mon tue wed thu fri sat sun"
        " monday tuesday wednesday thursday friday saturday sunday"
        " january february march april june july august september october november december"
    )
)


def unmarked(text: str) -> list[str]:
    """Return the words of a text that stand in no mark."""
    while (inner := re.sub(r"⟦[^⟦⟧]*⟧", " ", text)) != text:
        text = inner
    return [word.lower() for word in WORD.findall(text)]


def open_all(page: Page) -> None:
    """Unfold what is folded, and what unfolds with it."""
    for _ in range(2):
        for button in page.locator("main [aria-expanded=false], main details:not([open]) > summary").all()[:12]:
            with suppress(Error):
                button.click(timeout=2000)
    page.wait_for_load_state("networkidle")


def test_in_another_language_no_page_of_an_administrator_has_english_left(world: World, open_console: Open) -> None:
    with world.jamb("steward") as steward:
        found = [steward.clients.find(name).id for name in ("Weather display", "Pilot roster", "Berth board")]
    data: set[str] = set(NAMES | TIMES)

    def heard(answer: Response) -> None:
        if "/api/" in answer.url and answer.ok:
            with suppress(Error):
                data.update(word.lower() for word in WORD.findall(answer.text()))

    left: dict[str, set[str]] = {}
    with open_console(path="/token", locale=MARKED) as page:
        page.on("response", heard)
        # Whoever opens the console anew reads its language from the start.
        page.reload()
        page.wait_for_load_state("networkidle")
        assert page.evaluate("document.documentElement.lang") == MARKED
        for path in [*PAGES, *(f"/clients/{id_}" for id_ in found), f"/clients/{found[1]}/sign-in"]:
            page.goto(path)
            page.wait_for_load_state("networkidle")
            assert "⟦" in page.inner_text("main"), path
            if "/clients/" in path:
                open_all(page)
            words = {word for text in page.evaluate(READ) for word in unmarked(text)} - data
            # What is long is shown by its beginning.
            left[path] = {word for word in words if not any(known.startswith(word) for known in data)}
    assert {path: words for path, words in left.items() if words} == {}
