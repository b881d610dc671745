"""The guide in the console: from the page one is on, by a word, and for whoever is not signed in."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from tests.console.browser import Open, faults

PAGES = ("", "/registrar", "/integrator", "/audit-rules", "/operations", "/api")


@pytest.mark.parametrize("page", PAGES)
def test_every_page_of_the_guide_reads_at_any_width(open_console: Open, page: str) -> None:
    with open_console(signed_in=False, path=f"/help{page}") as seen:
        expect(seen.get_by_role("heading", level=1)).to_be_visible()
        for width in (1280, 390):
            seen.set_viewport_size({"width": width, "height": 800})
            assert seen.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth") <= 0
            assert faults(seen, dark=width > 390) == []


def test_help_leads_to_what_the_page_is_about_and_is_searched(open_console: Open) -> None:
    with open_console("steward", path="/rotation") as page:
        page.get_by_role("link", name="Help for this page").click()
        expect(page.get_by_role("heading", level=1, name="For a custodian")).to_be_visible()
        field = page.get_by_label("Look in the guide")
        field.fill("vendor manual")
        hit = page.get_by_role("link", name="Many permissions for a vendor's product").first
        hit.click()
        heading = page.get_by_role("heading", name="Many permissions for a vendor's product")
        expect(heading).to_be_in_viewport()
        field.fill("xyzzy")
        expect(page.get_by_role("heading", name="Nothing in the guide has “xyzzy”")).to_be_visible()
        page.goto("/help/nothing")
        expect(page.get_by_role("heading", name="The guide has no page “nothing”")).to_be_visible()


def test_a_part_that_does_not_come_says_so_and_leads_on(open_console: Open) -> None:
    with open_console(signed_in=False, path="/help") as page:
        page.route("**/assets/custodian-*", lambda route: route.abort())
        page.get_by_role("link", name="For a custodian").click()
        expect(page.get_by_role("heading", name="This part of the guide could not be loaded")).to_be_visible()
        page.unroute("**/assets/custodian-*")
        page.get_by_role("link", name="Load the page again").click()
        expect(page.get_by_role("heading", level=1, name="For a custodian")).to_be_visible()
        expect(page).to_have_title("For a custodian · Help · Jamb")
