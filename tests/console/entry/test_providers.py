"""Signing in by an outside provider in the browser, and naming one; with the demo's own."""

from __future__ import annotations

from playwright.sync_api import Browser, expect

from tests.console.browser import Open, faults
from tests.world import World


def test_somebody_signs_in_by_the_staff_list_of_their_company(world: World, browser: Browser) -> None:
    context = browser.new_context(viewport={"width": 1280, "height": 800}, base_url=world.base_url)
    page = context.new_page()
    wrong: list[str] = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    page.on("console", lambda said: wrong.append(said.text) if "Content Security Policy" in said.text else None)
    page.goto("/clients")
    page.get_by_label("Login").fill("sunniva.dahl@brisling.example")
    page.get_by_role("button", name="Sign in with Brisling staff").click()
    page.get_by_role("link", name="Cancel").click()
    expect(page.get_by_role("alert")).to_contain_text("it was cancelled there")
    assert faults(page) == []
    page.goto("/clients")
    page.get_by_label("Login").fill("sunniva.dahl@brisling.example")
    page.get_by_role("button", name="Sign in with Brisling staff").click()
    page.get_by_role("link", name="Sunniva Dahl").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Clients")
    expect(page.get_by_text("Sunniva Dahl").first).to_be_visible()
    page.goto("/people")
    row = page.get_by_role("row").filter(has_text="Sunniva Dahl").filter(has_text="signs in by Brisling staff").first
    row.get_by_role("button", name="End the link to the provider: Sunniva Dahl").click()
    asked = page.get_by_role("dialog")
    expect(asked).to_contain_text("Whoever signs in there next with the mail address sunniva.dahl@brisling.example")
    assert faults(page) == []
    asked.get_by_role("button", name="Cancel").click()
    expect(asked).to_have_count(0)
    context.close()
    assert wrong == []


def test_a_steward_sees_tries_and_names_providers(world: World, open_console: Open) -> None:
    with open_console("steward", path="/directory", directory="brisling") as page:
        expect(page.get_by_role("heading", name="Sign-in providers")).to_be_visible()
        page.get_by_role("button", name="Try claims").click()
        page.get_by_label("Claims of an ID token").fill(
            '{"sub": "9", "email": "new.hand@brisling.example", "email_verified": true, "groups": ["Field crew"]}'
        )
        page.get_by_role("button", name="Try them").click()
        told = page.get_by_role("status").filter(has_text="would be signed in")
        expect(told).to_contain_text("new.hand@brisling.example would be signed in, and added. Joins: field-crew")
        assert faults(page) == []
        page.get_by_label("Claims of an ID token").fill('{"sub": }')
        page.get_by_role("button", name="Try them").click()
        expect(page.get_by_role("alert")).to_contain_text("The claims are not JSON")
        page.get_by_role("button", name="Close").click()
        page.get_by_role("button", name="Change", exact=True).click()
        expect(page.get_by_role("textbox", name="Title")).to_have_value("Brisling staff")
        # By another issuer its subjects mean other people.
        expect(page.get_by_role("textbox", name="Issuer")).to_have_count(0)
        expect(page.get_by_role("textbox", name="Short name")).to_have_count(0)
        assert faults(page) == []
        page.get_by_role("button", name="Cancel", exact=True).click()
        page.get_by_role("button", name="Add a provider").click()
        for label, text in (("Short name", "harbour"), ("Title", "Harbour"), ("Client id", "jamb")):
            page.get_by_role("textbox", name=label).fill(text)
        page.get_by_role("textbox", name="Issuer").fill("not an address")
        assert faults(page) == []
        page.get_by_role("button", name="Save the provider").click()
        expect(page.get_by_role("alert")).to_contain_text("issuer")
        page.get_by_role("textbox", name="Issuer").fill("https://harbour.example")
        page.get_by_role("button", name="Save the provider").click()
        # Brisling has one steward alone: nobody could agree.
        expect(page.get_by_role("alert")).to_contain_text("Another person must agree")
