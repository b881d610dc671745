"""Rotation in the console: seen at a glance, opened after its plan, closed only when nothing uses the old one."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from jamb.client import Jamb
from tests.console.browser import Open, faults
from tests.world import Made, World, wait_until


def test_a_rotation_is_planned_opened_and_forced_after_saying_who_it_stops(world: World, open_console: Open) -> None:
    made, beside = (world.client(granted=["berths.view"], days=10) for _ in range(2))
    with open_console("custodian", path="/rotation?within=14") as page:
        for client in (made, beside):
            page.get_by_role("checkbox", name=re.compile(f"^Choose {client.name}")).check()
        page.get_by_role("button", name="Open 2 rotations").click()
        plan = page.get_by_role("region", name=re.compile("The plan"))
        expect(plan.get_by_role("row", name=re.compile(made.name))).to_be_visible()
        assert faults(page) == []
        with page.expect_response(re.compile("/rotations$")):
            plan.get_by_role("button", name="Open 2 rotations").click()
        opened = page.get_by_role("region", name=re.compile("Opened"))
        expect(opened.get_by_text("✓ followed by")).to_have_count(2)
        close = page.get_by_role("button", name=re.compile("^Close"))
        expect(close).to_be_disabled()
        with page.expect_download() as download:
            page.get_by_role("button", name=re.compile("Save")).click()
        text = download.value.path().read_text()
        told = text.partition(f"# {made.name}: follows")[2].splitlines()
        secret = next(line.partition("=")[2] for line in told if line.startswith("CLIENT_SECRET="))
        assert text.count("CLIENT_SECRET=") == 2
        page.get_by_label("I have the file").check()
        close.click()
        overlap = page.get_by_role("region", name="In overlap")
        row = overlap.get_by_role("row", name=re.compile(made.name))
        expect(row).to_contain_text("not seen yet")
        expect(page.get_by_text(secret)).to_have_count(0)
        # Both are used: the row says by whom, and forcing says what it stops.
        assert world.ask_token(made).status_code == 200
        assert world.ask_token(Made(made.id, made.name, secret)).status_code == 200
        with world.jamb("auditor") as auditor:
            wait_until(lambda: _used(auditor, made))
        page.reload()
        expect(row).to_contain_text("python-httpx")
        row.get_by_role("button", name=f"Steps for {made.name}").click()
        page.get_by_role("button", name="Force its close").click()
        expect(page.get_by_text("that stops")).to_be_visible()
        assert faults(page) == []
        page.get_by_role("button", name="Force it", exact=True).click()
        done = page.get_by_role("region", name="Done lately")
        expect(done.get_by_role("row", name=re.compile(made.name))).to_contain_text("forced")
    assert world.ask_token(made).status_code == 401


def _used(auditor: Jamb, made: Made) -> bool:
    rows = list(auditor.rotations.list(client=made.id))
    return bool(rows) and rows[0].used_since is not None and rows[0].new.first_used_at is not None


def test_the_demo_shows_each_state_and_an_auditor_cannot_step(open_console: Open) -> None:
    with open_console("auditor", path="/rotation?within=60") as page:
        for part, client in (
            ("Overdue", "Weather display"),
            ("Ready to close", "Mail archive"),
            ("In overlap", "Duty mail digest"),
        ):
            expect(page.get_by_role("region", name=part).get_by_role("row", name=re.compile(client))).to_be_visible()
        expect(page.get_by_role("region", name="In overlap")).to_contain_text("duty-digest/2.1 at 192.0.2.30")
        expect(page.get_by_role("button", name="Withdraw the old one")).to_have_count(0)
        expect(page.get_by_role("checkbox")).to_have_count(0)
