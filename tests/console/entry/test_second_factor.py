"""A second factor in the console: scanned, confirmed, codes kept, and asked for at the next sign-in."""

from __future__ import annotations

import base64
import re
import time

from playwright.sync_api import expect

from jamb.core.directory.second_factor import STEP_SECONDS, code_of
from tests.console.browser import Open, faults
from tests.world import World

GROUND = "coded"


def test_a_second_factor_is_set_up_in_a_minute_and_asked_for_from_then_on(world: World, open_console: Open) -> None:
    world.open_directory(GROUND)
    held = world.person("steward", GROUND)
    with world.session("steward", GROUND, anew=True) as http:
        http.put(f"/api/v1/directories/{GROUND}/policy", json={"second_factor": True}).raise_for_status()
    with open_console("steward", path="/clients", directory=GROUND) as page:
        expect(page.get_by_role("heading", level=1)).to_have_text("Your sign-in")
        expect(page.get_by_text("Set one up to go on")).to_be_visible()
        page.get_by_role("button", name="Set up a second factor").click()
        expect(page.locator("canvas")).to_be_visible()
        expect(page.get_by_label("Code")).to_be_focused()
        assert faults(page) == []
        key = page.locator("code.key").inner_text().replace(" ", "")
        page.get_by_label("Code").fill("000 000")
        page.get_by_role("button", name="Set it up").click()
        expect(page.get_by_role("alert").last).to_contain_text("The code is not right")
        page.get_by_label("Code").fill(code_of(base64.b32decode(key), int(time.time()) // STEP_SECONDS - 1))
        page.get_by_role("button", name="Set it up").click()
        expect(page.get_by_role("status").filter(has_text="Keep these recovery codes")).to_be_visible()
        codes = page.locator("ol.codes code").all_inner_texts()
        assert len(set(codes)) == 10
        assert faults(page) == []
        page.get_by_role("button", name="I have kept them").click()
        expect(page.get_by_text("10 of 10 recovery codes are left")).to_be_visible()
        page.goto("/people")
        expect(page.get_by_role("button", name=re.compile("Take the second factor off"))).to_be_visible()
        page.get_by_role("button", name="Sign out").click()
        page.get_by_label("Login").fill(held["login"])
        page.get_by_label("Password").fill(held["password"])
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_label("Code")).to_be_focused()
        assert faults(page) == []
        page.get_by_label("Code").fill("123456")
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("alert")).to_contain_text("The code is not right")
        page.get_by_label("Code").fill(codes[0])
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("navigation", name="Main")).to_be_visible()
