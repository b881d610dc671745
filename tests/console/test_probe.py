"""The probe in the dossier, and a token that is read in the page alone."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.console.browser import Open, faults
from tests.service.entry.roster import made
from tests.world import World


def test_a_client_is_probed_from_its_dossier(world: World, open_console: Open) -> None:
    made = world.client(granted=["berths.view"])
    with open_console("custodian", path=f"/clients/{made.id}#explain") as page:
        page.get_by_label("Resource to explain").select_option("berths")
        page.get_by_label("Operation to explain").select_option("berths.list")
        page.get_by_role("button", name="Probe it now").click()
        expect(page.locator("p.verdict").filter(has_text="It would be let in; nothing was done.")).to_be_visible()
        page.get_by_label("with its own secret").check()
        page.get_by_label("The client's secret").fill(made.secret[:-2])
        page.get_by_role("button", name="Probe it now").click()
        expect(page.locator("p.verdict").filter(has_text="its checksum does not fit")).to_be_visible()
        assert faults(page) == []


def test_what_was_just_registered_is_tried_where_its_registration_ends(world: World, open_console: Open) -> None:
    made = world.client(asked=["berths.view"], secret=True)
    with open_console("steward", path=f"/register/{made.id}") as page:
        page.get_by_role("button", name="Probe it now").click()
        expect(page.get_by_text("Does not work")).to_be_visible()
        expect(page.get_by_label("Operation to try").locator("option")).not_to_have_count(0)
        with world.jamb("approver") as approver:
            approver.consent.grant(made.id)
        page.get_by_role("button", name="Probe it now").click()
        expect(page.locator("p.verdict").filter(has_text="It would be let in; nothing was done.")).to_be_visible()
        assert faults(page) == []


def test_a_client_is_probed_for_a_person_who_need_not_sign_in(world: World, open_console: Open) -> None:
    native = made(world, "native", ["http://127.0.0.1/back"], ["berths.view"])
    with open_console("custodian", path=f"/clients/{native.id}#explain") as page:
        page.get_by_label("Resource to explain").select_option("berths")
        page.get_by_label("Operation to explain").select_option("berths.list")
        page.get_by_label("for a person").check()
        expect(page.get_by_role("button", name="Probe it now")).to_have_count(0)
        page.get_by_role("searchbox", name="Person it acts for").fill("oskar")
        page.get_by_role("button", name="+ Oskar Pell").click()
        page.get_by_role("button", name="Probe it now").click()
        expect(page.locator("p.verdict").filter(has_text="It would be let in; nothing was done.")).to_be_visible()
        expect(page.get_by_label("with its own secret")).to_have_count(0)
        assert faults(page) == []


def test_a_token_is_read_in_the_page_and_sent_nowhere(world: World, open_console: Open) -> None:
    made = world.client(granted=["berths.view"])
    token = world.ask_token(made).json()["access_token"]
    with open_console(signed_in=False, path="/token") as page:
        sent: list[str] = []
        page.on("request", lambda request: sent.append(f"{request.url} {request.post_data}"))
        page.get_by_label("Token").fill(f"Bearer {token}")
        expect(page.get_by_role("row", name=re.compile("^scope berths.view"))).to_be_visible()
        expect(page.get_by_role("row", name=re.compile("^exp .*in 10 minutes"))).to_be_visible()
        assert faults(page) == []
        page.get_by_label("Token").fill(token[:-40].rsplit(".", 1)[0])
        expect(page.get_by_text("This is no JWT")).to_be_visible()
        assert not any(token[:40] in one for one in sent)
