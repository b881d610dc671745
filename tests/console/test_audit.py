"""The audit as whoever works with it sees it: resolved from the list, rightsized, reviewed by an owner, cleaned up, restored."""

from __future__ import annotations

import re
from datetime import timedelta

from playwright.sync_api import Page, expect

from jamb.wire.consent.charter_file import read_charter
from tests.console.browser import Open, faults
from tests.world import World, unique, wait_until


def test_a_finding_is_resolved_beside_the_list_by_keyboard_after_saying_what_goes(
    world: World, open_console: Open
) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    with world.database() as database:
        database.execute(
            "update consent set granted_at = granted_at - %s where client_id = %s", [timedelta(days=30), made.id]
        )
    with world.jamb() as jamb:
        wait_until(lambda: list(jamb.findings.list(rule="permission-never-used", client=made.id)))
    with open_console("approver", path=f"/audit?q={made.name.replace(' ', '%20')}") as page:
        page.get_by_role("button", name=re.compile("^berths.view, granted")).wait_for()
        page.locator("body").press("j")
        for _ in range(5):
            if "berths.view" in page.evaluate("document.activeElement.textContent"):
                break
            page.keyboard.press("j")
        page.keyboard.press("Enter")
        card = page.get_by_role("complementary", name="Finding")
        expect(card).to_contain_text("berths.list, berths.read")
        expect(page).to_have_url(re.compile("finding="))
        card.get_by_role("button", name="End the consent").click()
        card.get_by_label("Why").fill("Nobody uses it")
        card.get_by_role("button", name="End the consent").click()
        expect(card).to_contain_text("The consent to berths.view is ended.")
        expect(page.get_by_role("button", name=re.compile("^berths.view, granted"))).to_have_count(0)
        page.keyboard.press("Escape")
        expect(card).to_have_count(0)
    with world.jamb() as jamb:
        entry = next(iter(jamb.ledger.list(client=made.id)))
    assert (entry.action, entry.reason) == ("consent.withdrawn", "Nobody uses it")


def test_findings_are_grouped_by_owner_and_who_may_not_remedy_learns_why(open_console: Open) -> None:
    with open_console("auditor", path="/audit?by=owner&q=Radio%20bridge") as page:
        page.get_by_role("button", name=re.compile("^Nobody owns these")).wait_for()
        expect(page.get_by_role("button", name=re.compile("Oskar Pell"))).to_have_count(0)
        page.get_by_role("button", name="Nobody owns this registration").first.click()
        card = page.get_by_role("complementary", name="Finding")
        expect(card).to_contain_text(re.compile(r"steward \(.*Hanneke Brouwer"))
        expect(card.get_by_role("button", name="Name an owner")).to_have_count(0)


def rightsized(page: Page) -> None:
    fit = page.locator("#rightsize")
    expect(fit).to_contain_text("berths.manage, everywhere")
    expect(fit).to_contain_text("berth.close, occupant.assign")


def test_a_client_is_fitted_to_its_use_in_the_dossier(world: World, open_console: Open) -> None:
    with world.jamb() as jamb:
        client = jamb.clients.find("Quay dashboard")
    with open_console("steward", path=f"/clients/{client.id}#rightsize") as page:
        rightsized(page)
        page.get_by_role("button", name="Start a dry run").click()
        expect(page.locator("#rightsize")).to_contain_text("nothing would have been refused")
        page.get_by_role("button", name="Put it in force").click()
        expect(page.locator("#rightsize")).to_contain_text("Its time is not over yet")
        assert faults(page) == []
        page.get_by_role("button", name="Cancel").click()
        page.get_by_role("button", name="End the dry run").click()
        page.get_by_role("button", name="Start a dry run").wait_for()


def test_an_owner_asks_for_less_and_takes_it_along_in_a_file(world: World, open_console: Open) -> None:
    with world.jamb() as jamb:
        client = jamb.clients.find("Quay dashboard")
    with open_console("oskar", path=f"/clients/{client.id}#rightsize") as page:
        rightsized(page)
        with page.expect_download() as saved:
            page.get_by_role("button", name="Save the proposal as a charter").click()
        assert saved.value.suggested_filename == "quay-dashboard.toml"
        charter = read_charter(saved.value.path().read_text())
        assert [one.permission for one in charter.asks] == ["arrivals.view", "berths.view"]
        page.get_by_role("button", name="Ask an approver").click()
        page.get_by_label("Why less would do").fill("It only shows the berths")
        assert faults(page) == []
        page.get_by_role("button", name="Ask an approver to put it in force").click()
        expect(page.locator("#rightsize")).to_contain_text("waits for an approver")
        page.get_by_role("link", name="A request to put it in force").click()
        expect(page.get_by_text("An approver or steward decides")).to_be_visible()
    with open_console("approver", path="/desk") as page:
        expect(page.get_by_role("row", name=re.compile("Quay dashboard"))).to_contain_text("less: berths arrivals.view")
        page.get_by_role("row", name=re.compile("Quay dashboard")).get_by_role("link").click()
        expect(page.get_by_role("heading", level=1)).to_have_text(
            "Oskar Pell asks for less for Quay dashboard at berths"
        )
        expect(page.get_by_text("berth.close, occupant.assign")).to_be_visible()
        expect(page.get_by_role("button", name="Put it in force all the same")).to_be_enabled()
        page.get_by_role("button", name="Decline").click()
        expect(page.get_by_label("Words")).to_be_focused()
        expect(page.get_by_role("alert")).to_contain_text("Say why you decline")
        assert faults(page) == []
        page.get_by_label("Words").fill("The harbour master closes berths on it")
        page.get_by_role("button", name="Decline").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Consent desk")
    with world.jamb() as jamb:
        jamb.rightsizing.drop(client.id, "berths")


def test_an_owner_answers_for_a_finding_on_their_own_page(world: World, open_console: Open) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    with world.jamb() as jamb:
        (found,) = [one for one in jamb.findings.list(client=made.id) if one.rule == "single-owner"]
        jamb.findings.assign(found.id, world.person("oskar")["login"], note="Who stands in?")
    with open_console("oskar", path="/clients") as page:
        count = page.get_by_role("link", name=re.compile("Reviews .*to answer"))
        before = int("".join(re.findall(r"\d", count.inner_text())))
        count.click()
        given = page.get_by_role("listitem").filter(has_text=made.name)
        expect(given).to_contain_text("Who stands in?")
        given.get_by_label("Your answer").fill("Pia Nowicki, from Monday")
        page.keyboard.press("Enter")
        expect(given).to_contain_text("answered")
        expect(given.get_by_label("Answer anew")).to_have_value("")
        expect(count).to_have_text(re.compile(rf"\b{before - 1}\b"))
        assert faults(page) == []
    with open_console("auditor", path=f"/audit?finding={found.id}&q={made.name.replace(' ', '%20')}") as page:
        expect(page.get_by_role("complementary", name="Finding")).to_contain_text("Pia Nowicki, from Monday")


def test_an_owner_who_comes_once_a_year_answers_without_help(world: World, open_console: Open) -> None:
    made = world.client(granted=["dispatches.read", "dispatches.send"], resource="dispatches", secret=False)
    name = unique("Mail of the year")
    with world.jamb("registrar") as registrar:
        review = registrar.reviews.start(name, days=5, clients=[made.id])
    with open_console(None) as page:
        page.get_by_role("link", name="Reviews").click()
        asked = page.get_by_role("region", name=name)
        expect(asked).to_contain_text("2 of 2 wait")
        expect(asked).to_contain_text("too early to say")
        asked.get_by_role("button", name="Still needed").first.click()
        expect(asked).to_contain_text("1 of 2 wait")
        asked.get_by_role("button", name="Needed for less").click()
        asked.get_by_label("Duty", exact=False).first.check()
        assert faults(page) == []
        asked.get_by_role("button", name="Only there").click()
        expect(asked).to_contain_text("all answered")
        asked.get_by_role("button", name="Answer differently").first.wait_for()
    with open_console("steward", path=f"/reviews/{review.id}") as page:
        page.get_by_role("button", name="Carry out 1 answer").click()
        expect(page.get_by_role("group", name="Are you sure")).to_contain_text("only duty")
        page.get_by_role("button", name="Carry them out").click()
        expect(page.get_by_text("1 carried out.")).to_be_visible()
    with world.jamb() as jamb:
        assert "only duty" in {one.reach.words for one in jamb.consent.list(made.id)}


def test_leftovers_are_cleaned_up_in_bulk_and_one_is_restored(world: World, open_console: Open) -> None:
    word = unique("Leftover").replace(" ", "-")
    with world.jamb() as jamb:
        for number in range(3):
            made = jamb.clients.register(f"{word} {number}", "Left from a dry_run")
            if number == 2:
                jamb.secrets.issue(made.id)
    with open_console("steward", path=f"/clients?q={word}") as page:
        page.get_by_role("button", name="Choose all 3 that match").click()
        page.get_by_role("button", name="Clean up 3").click()
        bulk = page.get_by_role("region", name="Clean up")
        expect(bulk.get_by_text("it is live")).to_have_count(3)
        bulk.get_by_label("Why").fill("Nobody knows them")
        bulk.get_by_role("button", name="Disable 3").click()
        expect(bulk.get_by_text("disabled", exact=True)).to_have_count(3)
        expect(bulk.get_by_text("can be removed")).to_have_count(2)
        bulk.get_by_role("button", name="Withdraw the credentials of 1").click()
        expect(bulk.get_by_text("1 credential withdrawn")).to_be_visible()
        expect(bulk.get_by_text("can be removed")).to_have_count(3)
        assert faults(page) == []
        bulk.get_by_role("button", name="Remove 3").click()
        expect(bulk.get_by_text("removed", exact=True)).to_have_count(3)
        page.goto("/audit/removed")
        row = page.get_by_role("row").filter(has_text=f"{word} 1")
        row.get_by_role("button", name="Restore").click()
        row.get_by_role("button", name="Restore it, disabled").click()
        expect(page.get_by_role("status").filter(has_text="is back, disabled")).to_be_visible()
        assert faults(page) == []
    with world.jamb() as jamb:
        assert [(one.name, one.state) for one in jamb.clients.list(q=word)] == [(f"{word} 1", "disabled")]
