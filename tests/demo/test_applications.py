"""The demo's applications run as their kinds do: a real browser signs people in to them, and out."""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.console.browser import PATIENCE
from tests.world import World, wait_until

# Which ship lies there, other tests may change.
SHIP = re.compile(r"^north-1 \w+")


@pytest.fixture
def page(browser: Browser) -> Iterator[Page]:
    with browser.new_context(viewport={"width": 1280, "height": 800}) as context:
        made = context.new_page()
        made.set_default_timeout(PATIENCE)
        wrong: list[str] = []
        made.on("pageerror", lambda error: wrong.append(str(error)))
        made.on("console", lambda said: wrong.append(said.text) if "Content Security Policy" in said.text else None)
        yield made
        assert wrong == []


def sign_in(page: Page, world: World) -> None:
    person = world.person("pia")
    page.get_by_label("Login").fill(person["login"])
    page.get_by_label("Password").fill(person["password"])
    page.get_by_role("button", name="Sign in").click()


def test_the_roster_acts_as_itself_and_for_whoever_signed_in_until_they_sign_out(world: World, page: Page) -> None:
    page.goto(f"{world.berths_url}/roster")
    expect(page.get_by_role("row", name=re.compile("05:00 .*Marit Elise"))).to_be_visible()
    expect(page.get_by_role("row", name=SHIP)).to_have_count(0)
    page.get_by_role("link", name="Sign in").click()
    sign_in(page, world)
    expect(page.get_by_role("heading", level=1)).to_have_text("Pilot roster of Pia Nowicki")
    expect(page.get_by_role("row", name=SHIP)).to_be_visible()
    assert "token" not in str(page.context.cookies())
    # Whoever signs out at the issuer is signed out here within seconds (OpenID Connect Back-Channel Logout).
    with page.context.new_page() as own:
        own.goto(f"{world.base_url}/applications")
        own.get_by_role("button", name="Sign out", exact=True).click()
        expect(own.get_by_label("Login")).to_be_visible()

    def signed_out() -> bool:
        page.reload()
        return page.get_by_role("link", name="Sign in").count() > 0

    wait_until(signed_out, seconds=30)
    page.get_by_role("link", name="Sign in").click()
    sign_in(page, world)
    # And the other way round: who signs out here has to sign in anew.
    page.get_by_role("link", name="Sign out").click()
    expect(page.get_by_role("heading", level=1)).to_have_text("Pilot roster")
    page.get_by_role("link", name="Sign in").click()
    expect(page.get_by_label("Login")).to_be_visible()


def test_the_kiosk_keeps_its_token_in_the_page_alone(world: World, page: Page) -> None:
    page.goto(f"{world.berths_url}/kiosk")
    page.get_by_role("button", name="Sign in").click()
    sign_in(page, world)
    page.get_by_role("heading", level=1, name=re.compile("Berths today|wants to act")).wait_for()
    if page.get_by_role("button", name="Go on").count():
        page.get_by_role("button", name="Go on").click()
    expect(page.get_by_role("row", name=SHIP)).to_be_visible()
    assert page.url == f"{world.berths_url}/kiosk"
    assert page.evaluate("[{...sessionStorage}, {...localStorage}, document.cookie]") == [{}, {}, ""]
    # An answer that this tab never asked for is turned away (RFC 9700, section 4.7).
    page.goto(f"{world.berths_url}/kiosk?code=stolen&state=another&iss=elsewhere")
    expect(page.get_by_role("status")).to_contain_text("belongs to no sign-in of this tab")


def test_the_watch_tablet_signs_in_by_a_code_on_another_device(world: World, page: Page, browser: Browser) -> None:
    page.goto(f"{world.berths_url}/watch")
    with browser.new_context() as phone:
        other = phone.new_page()
        other.set_default_timeout(PATIENCE)
        for answer in ("No, turn it away", re.compile("Yes, it is mine")):
            page.get_by_role("link", name="Use another device").click()
            expect(page.get_by_text(re.compile("^[A-Z]{4}-[A-Z]{4}$"))).to_be_visible()
            other.goto(str(page.get_by_role("link").first.get_attribute("href")))
            other.get_by_label("Login").or_(other.get_by_role("button", name=answer)).first.wait_for()
            if other.get_by_label("Login").count():
                sign_in(other, world)
            other.get_by_role("button", name=answer).click()
            if isinstance(answer, str):
                expect(page.get_by_text("You did not allow it.")).to_be_visible()
                page.get_by_role("link", name="Start again").click()
            else:
                expect(other.get_by_role("status").first).to_contain_text("The device may act for you.")
    expect(page.get_by_role("heading", level=1)).to_have_text("Watch of Pia Nowicki")
    expect(page.get_by_role("row", name=SHIP)).to_be_visible()
