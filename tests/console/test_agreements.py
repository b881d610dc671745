"""Two people in the console: what waits for another, their page, and a password of one's own."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from jamb.core.reach import ReachKind
from jamb.wire.resources.reach import ReachSent
from tests.console.browser import Open, faults
from tests.world import World, add_person, unique


def test_what_one_may_not_do_alone_waits_and_another_agrees_at_the_desk(world: World, open_console: Open) -> None:
    made = world.client(granted=["berths.manage"], secret=False)
    with open_console("registrar", path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name="change owners").click()
        page.get_by_role("searchbox", name="Owners").fill("haan")
        page.get_by_role("button", name="+ Wouter Haan").click()
        page.get_by_role("button", name="Save owners").click()
        note = page.get_by_role("alert")
        expect(note).to_contain_text("Wouter Haan could then do what")
        expect(note).to_contain_text("Hanneke Brouwer or Tobias Lindqvist can agree")
        assert faults(page) == []
        page.get_by_role("link", name="See what waits").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("change who owns it")
        expect(page.get_by_text("New owners")).to_be_visible()
        expect(page.get_by_role("button", name=re.compile("^Agree"))).to_have_count(0)
    with open_console("approver", path="/desk") as page:
        page.get_by_role("row", name=re.compile(f"{made.name} Change who owns it")).get_by_role("link").click()
        expect(page.get_by_role("button", name="Decline")).to_be_enabled()
        assert faults(page) == []
        page.get_by_role("button", name="Agree: change who owns it").click()
        page.get_by_role("heading", name="Consent desk").wait_for()
    with world.jamb("auditor") as auditor:
        assert {one.name for one in auditor.clients.read(made.id).client.owners} == {"Oskar Pell", "Wouter Haan"}


def test_a_reach_is_widened_after_a_look(world: World, open_console: Open) -> None:
    made = world.client(secret=False)
    with world.jamb("registrar") as registrar, world.jamb("approver") as approver:
        registrar.asks.add(made.id, "berths", ["berths.assign"])
        approver.consent.grant(made.id)
        south = ReachSent(kind=ReachKind.ONLY, collections=["south"])
        approver.consent.change_reach(made.id, "berths", ["berths.assign"], south)
    with open_console("approver", path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name=re.compile("berths.assign")).first.click()
        page.get_by_role("button", name="Change its reach").click()
        page.get_by_label("everywhere").check()
        page.get_by_role("button", name="Set the reach").click()
        expect(page.get_by_text("It would count for more")).to_be_visible()
        assert faults(page) == []
        page.get_by_role("button", name="Widen the reach").click()
        expect(page.get_by_text("It would count for more")).to_have_count(0)
    with world.jamb("auditor") as auditor:
        assert [one.reach.words for one in auditor.consent.list(made.id)] == ["everywhere"]


def test_a_password_of_ones_own_is_chosen(world: World, open_console: Open) -> None:
    login, first = f"{unique('ivo').replace(' ', '-')}@quillhaven.example", "chosen by the steward"
    with world.jamb("steward") as steward:
        add_person(steward, login, "Ivo", first)
    world.demo["people"].append({"login": login, "password": first, "roles": ["ivo"], "directory": "quillhaven"})
    with open_console("ivo", path="/password") as page:
        expect(page.get_by_text("Somebody else chose your password")).to_be_visible()
        page.get_by_label("Current password").fill(first)
        page.get_by_label("New password", exact=False).first.fill("chosen by myself now")
        page.get_by_label("New password again").fill("chosen by myself no")
        expect(page.get_by_role("alert")).to_contain_text("differ")
        assert faults(page) == []
        page.get_by_label("New password again").fill("chosen by myself now")
        page.get_by_role("button", name="Change the password").click()
        expect(page.get_by_role("status")).to_contain_text("Your password is changed")
        expect(page.get_by_text("Somebody else chose your password")).to_have_count(0)
