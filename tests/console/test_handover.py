"""Handover in the console: the link is made without showing the secret, and opened once by whoever has it."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.console.browser import Open, faults
from tests.world import Made, World


def test_a_link_is_made_opened_once_by_a_stranger_and_its_sender_is_told(world: World, open_console: Open) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    with open_console("custodian", path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name="Add a credential").click()
        page.get_by_label("Handed over").check()
        page.get_by_label(re.compile("^Passphrase")).fill("lighthouse keeper")
        page.get_by_role("button", name="Make the link").click()
        region = page.get_by_role("region", name="The link, for the only time")
        link = region.locator("code.link").inner_text()
        assert faults(page) == []
        region.get_by_role("button", name=re.compile("^Close")).click()
        expect(page.get_by_text("not opened yet")).to_be_visible()
        address = link.removeprefix(world.base_url)
        with open_console(signed_in=False, path=address) as stranger:
            expect(stranger.get_by_role("heading", name=f"A credential of “{made.name}”")).to_be_visible()
            assert "#" not in stranger.url, "what opens it leaves the address bar"
            stranger.get_by_label(re.compile("^Passphrase")).fill("lighthouse sleeper")
            stranger.get_by_role("button", name="Open it now").click()
            expect(stranger.get_by_text("4 tries left")).to_be_visible()
            assert faults(stranger) == []
            stranger.get_by_label(re.compile("^Passphrase")).fill("lighthouse keeper")
            stranger.get_by_role("button", name="Open it now").click()
            secret = stranger.get_by_text(re.compile(r"^jamb_s1_\w{60}$")).inner_text()
            assert faults(stranger) == []
        assert world.ask_token(Made(made.id, made.name, secret)).status_code == 200
        with open_console(signed_in=False, path=address) as second:
            expect(second.get_by_role("alert")).to_contain_text("opened before")
        page.reload()
        expect(page.get_by_text("Tried once more")).to_be_visible()
        expect(page.get_by_text(secret)).to_have_count(0)
        assert faults(page) == []
