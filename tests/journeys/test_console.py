"""The same errand in the console: one registrar and one approver, each in a browser, the keyboard where it matters."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests import patient
from tests.console.browser import Open
from tests.world import World, unique, wait_until


def test_a_job_reads_berths_as_itself(world: World, open_console: Open) -> None:
    name = unique("Pilot cutter board")
    with open_console("registrar", signed_in=False) as page:
        sign_in(page, world, "registrar")
        # The catalogue: what unlocks what.
        page.get_by_role("link", name="Resources", exact=True).click()
        expect(page.get_by_role("row", name=re.compile("List berths GET .berths read internal 2"))).to_contain_text(
            "unlocks"
        )
        page.get_by_role("link", name="Clients", exact=True).click()
        page.get_by_role("button", name="Register a client").click()

        # What is it: by keyboard alone.
        page.get_by_label("Name", exact=True).focus()
        page.keyboard.type(name)
        page.keyboard.press("Tab")
        # Whom one could name is read beside the form: a Tab goes to what is there.
        page.get_by_role("button", name=re.compile(r"^\+ ")).first.wait_for()
        page.keyboard.type("Shows free berths to the pilots")
        page.keyboard.press("Tab")
        page.keyboard.press("Tab")
        page.keyboard.type("pell")
        page.get_by_role("button", name="+ Oskar Pell").wait_for()
        page.keyboard.press("Enter")
        expect(page.get_by_role("list", name="Owners chosen")).to_contain_text("Oskar Pell")
        page.get_by_role("button", name="Register", exact=True).press("Enter")

        # What must it do: the smallest permission that fits is proposed.
        page.get_by_label("Resource", exact=True).select_option("berths")
        page.get_by_role("checkbox", name="List berths").press("Space")
        expect(page.get_by_role("checkbox", name="berths.view See berths")).to_be_checked()
        page.get_by_label("Reason").fill("The pilots ask every hour")
        page.get_by_role("button", name="Ask for berths.view").click()

        # How does it prove itself: a secret, shown once, with every form of the sheet to copy.
        page.get_by_label("Lifetime, days").fill("400")
        page.get_by_role("button", name=re.compile("^Issue a secret")).click()
        expect(page.get_by_role("alert")).to_contain_text("longer than this directory allows")
        page.get_by_label("Lifetime, days").fill("")
        page.get_by_role("button", name=re.compile("^Issue a secret")).click()
        page.get_by_role("heading", name="The secret, for the only time").wait_for()
        page.get_by_role("button", name="copy client secret").click()
        secret = page.evaluate("navigator.clipboard.readText()")
        page.get_by_role("button", name=".env").click()
        expect(page.get_by_label("Connection sheet", exact=True)).to_contain_text(f"CLIENT_SECRET={secret}")
        close = page.get_by_role("button", name="Close: the secret is gone from here")
        expect(close).to_be_disabled()
        page.get_by_label("I have put the secret where it belongs").check()
        close.click()
        expect(page.locator("body")).not_to_contain_text(secret)
        expect(page.get_by_role("heading", name="Next steps")).to_be_visible()
        page.get_by_role("button", name="To its dossier").last.click()
        page.get_by_role("heading", level=1, name=name).wait_for()
        client_id = page.url.rsplit("/", 1)[1]
        expect(page.locator("#ladder").get_by_text("waits for consent")).to_be_visible()

    form = {"grant_type": "client_credentials", "client_id": client_id, "client_secret": secret}
    form["resource"] = "https://berths.quillhaven.example"
    assert patient.post(world.token_endpoint(), data=form).json()["error"] == "invalid_scope"

    with open_console("approver", path=f"/clients/{client_id}") as page:
        # The failed request is there with what to do, and the explanation leads to the decision.
        expect(page.get_by_text("Have an approver consent to what is asked.")).to_be_visible()
        page.get_by_label("Resource to explain").select_option("berths")
        page.get_by_label("Operation to explain").select_option("berths.list")
        expect(page.get_by_role("status").filter(has_text="Refused")).to_be_visible()
        page.get_by_role("button", name="Look and decide").click()

        # The decision: what becomes possible; the safe answer comes first and is the default.
        page.get_by_role("heading", name="What becomes possible").wait_for()
        expect(page.get_by_role("row", name=re.compile("List berths.*read.*internal"))).to_be_visible()
        buttons = page.get_by_role("contentinfo").or_(page.locator("footer")).get_by_role("button")
        expect(buttons.first).to_have_text("Decline")
        page.get_by_role("checkbox", name=re.compile("berths.view")).uncheck()
        expect(page.get_by_text("no permission is chosen")).to_be_visible()
        page.get_by_role("checkbox", name=re.compile("berths.view")).check()
        page.get_by_role("button", name="Grant 1 permission: 2 new operations").click()
        page.wait_for_url(f"**/clients/{client_id}")
        page.get_by_role("heading", level=1, name=name).wait_for()
        expect(page.locator("#ladder").get_by_text("waits for consent")).to_have_count(0)

    token = patient.post(world.token_endpoint(), data=form).json()["access_token"]
    assert world.call_berths(token).status_code == 200
    assert world.call_berths(token, "/arrivals").json()["missing_permission"] == "arrivals.view"

    with world.jamb("auditor") as auditor:
        wait_until(lambda: auditor.clients.read(client_id).resources[0].rungs[0].used == "used")
    with open_console("auditor", path=f"/clients/{client_id}") as page:
        page.get_by_role("button", name="berths.view").click()
        expect(page.get_by_text("● used")).to_have_count(1)
        history = page.locator("#history")
        expect(history).to_contain_text("Tobias Lindqvist granted berths.view at berths")
        expect(history).to_contain_text("Maren Oduya issued the secret")
        expect(history).to_contain_text("The pilots ask every hour")
        expect(page.locator("#findings")).to_contain_text("alone answers for it")
        page.get_by_role("link", name="Directory").click()
        page.get_by_role("button", name="Verify the whole chain").click()
        expect(page.get_by_role("status").filter(has_text="all in place")).to_be_visible()


def sign_in(page: Page, world: World, role: str) -> None:
    person = world.person(role)
    page.get_by_label("Login").fill(person["login"])
    page.get_by_label("Password").fill(person["password"])
    page.keyboard.press("Enter")
    page.get_by_role("navigation", name="Main").get_by_text(person["name"]).wait_for()
