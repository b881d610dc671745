"""Where a person is signed in, on their own page: seen and ended."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.console.browser import Open, faults
from tests.world import World

GROUND = "roaming"


def test_other_sign_ins_are_seen_and_ended(world: World, open_console: Open) -> None:
    world.open_directory(GROUND)
    with (
        world.session("steward", GROUND, anew=True) as other,
        open_console("steward", path="/password", directory=GROUND) as page,
    ):
        rows = page.get_by_role("row")
        expect(rows.filter(has_text="this one")).to_have_count(1)
        expect(rows.filter(has_text="python-httpx")).not_to_have_count(0)
        assert faults(page) == []
        page.get_by_role("button", name="End all others", exact=True).click()
        page.get_by_role("button", name="End all others now").click()
        expect(page.get_by_role("status").filter(has_text=re.compile("ended"))).to_be_visible()
        expect(page.get_by_role("button", name="End all others")).to_have_count(0)
        assert other.get("/api/v1/session").status_code == 401
        assert faults(page) == []
