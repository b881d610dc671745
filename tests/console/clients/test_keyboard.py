"""From the sign-in page to a consented client with its secret put away, by the keyboard alone and in few presses."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.console.browser import PATIENCE, Open
from tests.world import World, unique

# Beside what is typed; as measured, and it may only fall.
MOST_PRESSES = 60
# What has the focus, as its name is read; nothing where the page's beginning has it.
FOCUSED = """() => {
  const one = document.activeElement;
  if (!one || one === document.body) return "";
  const label = one.labels?.[0]?.innerText || one.getAttribute("aria-label") || one.innerText || one.getAttribute("name");
  return `${one.tagName} ${(label ?? "").replace(/\\s+/g, " ").trim()}`;
}"""


class Keys:
    """A person with a keyboard and nothing else. Counts what is pressed; what is typed is not."""

    def __init__(self, page: Page) -> None:
        self.page, self.pressed = page, 0
        self.lost: list[str] = []

    def press(self, key: str) -> str:
        self.page.keyboard.press(key)
        self.pressed += 1
        focused: str = self.page.evaluate(FOCUSED)
        if not focused:
            # It is given back at the next look at the page, and to something.
            self.page.wait_for_timeout(200)
            focused = self.page.evaluate(FOCUSED)
        if not focused:
            self.lost.append(f"{self.pressed}: {key}")
        return focused

    def tab_to(self, name: str) -> None:
        passed = []
        while len(passed) < 20:
            passed.append(self.press("Tab"))
            if re.search(name, passed[-1]):
                return
        raise AssertionError(f"{name} does not come: {passed}")

    def types(self, text: str) -> None:
        self.page.keyboard.type(text)

    def waits_for(self, name: str) -> None:
        self.page.wait_for_function(f"name => new RegExp(name).test(({FOCUSED})())", arg=name, timeout=PATIENCE)


def test_a_client_is_registered_and_consented_to_by_the_keyboard_alone(world: World, open_console: Open) -> None:
    name, steward = unique("Keyboard board"), world.person("steward")
    with open_console(signed_in=False) as page:
        keys = Keys(page)
        page.get_by_label("Login").wait_for()
        keys.types(steward["login"])
        keys.press("Tab")
        keys.types(steward["password"])
        keys.press("Enter")
        page.get_by_role("navigation", name="Main").wait_for()
        keys.waits_for("^H1 ")
        # A page is found as all else is.
        keys.press("/")
        keys.types("register")
        expect(page.get_by_role("option", name="Register a client")).to_be_visible()
        keys.press("ArrowDown")
        keys.press("Enter")
        keys.waits_for("^H1 Register a client")
        keys.tab_to("^INPUT Name")
        keys.types(name)
        keys.tab_to("^INPUT Purpose")
        keys.types("Shows berths to whoever has no mouse")
        keys.tab_to("^BUTTON Register$")
        keys.press("Enter")
        page.get_by_role("button", name="To its dossier").first.wait_for()
        keys.waits_for("^H1 ")
        keys.tab_to("^SELECT Resource")
        keys.types("Berths")
        page.get_by_role("checkbox", name="List berths").wait_for()
        keys.tab_to("List berths")
        keys.press("Space")
        expect(page.get_by_role("checkbox", name="berths.view See berths")).to_be_checked()
        keys.tab_to("^INPUT Reason")
        keys.types("Nobody has a mouse there")
        keys.tab_to("^BUTTON Ask for berths.view")
        keys.press("Enter")
        keys.waits_for("^BUTTON Ask for more")
        keys.tab_to("^BUTTON Issue a secret")
        keys.press("Enter")
        keys.waits_for("copy client secret")
        keys.press("Enter")
        assert page.evaluate("navigator.clipboard.readText()").startswith("jamb_")
        keys.tab_to("I have put the secret")
        keys.press("Space")
        keys.tab_to("^BUTTON Close: the secret is gone")
        keys.press("Enter")
        page.get_by_role("heading", name="The secret, for the only time").wait_for(state="detached")
        # What comes next has the focus by itself.
        keys.waits_for("^BUTTON See what consent would make possible")
        keys.press("Enter")
        keys.waits_for("^H1 .*asks for")
        keys.tab_to("^BUTTON Grant 1 permission")
        keys.press("Enter")
        keys.waits_for(f"^H1 {name}")
        expect(page.locator("#ladder").get_by_text("waits for consent")).to_have_count(0)
        assert keys.lost == []
        assert keys.pressed <= MOST_PRESSES, keys.pressed
