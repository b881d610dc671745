"""Whoever looks after several directories goes from one to the other by one press, in every tab."""

from __future__ import annotations

from playwright.sync_api import Page, expect

from tests.console.browser import Open, faults
from tests.world import World

CHANGE = "change the directory"


def sign_in_to(page: Page, world: World, slug: str) -> None:
    person = world.person("steward", slug)
    page.get_by_label("Login").fill(person["login"])
    page.get_by_label("Password").fill(person["password"])
    page.get_by_label("Directory").fill(slug)
    page.keyboard.press("Enter")


def test_another_directory_is_one_press_away_in_every_tab(world: World, open_console: Open) -> None:
    with open_console(path="/clients") as page:
        rail = page.get_by_role("navigation", name="Main")
        rail.get_by_role("button", name=CHANGE).click()
        rail.get_by_role("button", name="Sign in to another directory").click()
        expect(page.get_by_role("link", name="Back to Quillhaven Port Authority")).to_be_visible()
        sign_in_to(page, world, "brisling")
        expect(rail.get_by_role("button", name=CHANGE)).to_contain_text("brisling")
        with page.context.new_page() as other:
            other.goto("/clients")
            expect(other.get_by_role("button", name=CHANGE)).to_contain_text("brisling")
            # By the keyboard: open, look, shut, and open again.
            rail.get_by_role("button", name=CHANGE).press("Enter")
            assert faults(page) == []
            page.keyboard.press("Escape")
            expect(rail.get_by_role("button", name=CHANGE)).to_be_focused()
            page.keyboard.press("Enter")
            page.keyboard.press("Tab")
            expect(rail.get_by_role("button", name="Quillhaven Port Authority")).to_be_focused()
            page.keyboard.press("Enter")
            expect(page.get_by_role("heading", name="Horizon")).to_be_visible()
            for tab in (page, other):
                expect(tab.get_by_role("button", name=CHANGE)).to_contain_text("quillhaven")
        expect(rail.get_by_role("button", name="Sign out of 2 directories")).to_be_visible()
        # What is typed and not saved is asked about first.
        page.goto("/register")
        page.get_by_label("Name", exact=True).press_sequentially("Tide")
        rail.get_by_role("button", name=CHANGE).click()
        rail.locator("#directories button").first.click()
        page.get_by_role("button", name="Stay here").click()
        expect(page.get_by_label("Name", exact=True)).to_have_value("Tide")
        page.get_by_label("Name", exact=True).fill("")
