"""The code flow step by step in the console: made, answered, redeemed, refreshed and given back."""

from __future__ import annotations

import pytest
from playwright.sync_api import expect

from tests.console.browser import Open, faults
from tests.service.entry.roster import BACK, answered, made, somebody
from tests.world import World


@pytest.mark.parametrize("kind", ["web", "browser"])
def test_a_sign_in_is_done_by_hand_and_every_answer_is_seen(world: World, open_console: Open, kind: str) -> None:
    client = made(world, kind, [BACK], ["berths.assign"])
    with open_console("steward", path=f"/clients/{client.id}") as page, somebody(world) as http:
        page.get_by_role("link", name="Try a sign-in, step by step").click()
        expect(page.get_by_label("Redirect URI")).to_have_value(BACK)
        expect(page.get_by_label("Scope")).to_have_value("openid profile offline_access berths.assign")
        page.get_by_role("button", name="Make the request").click()
        address = page.get_by_role("link", name="Open it in a new tab").get_attribute("href")
        assert address is not None
        assert faults(page) == []
        sent_to = answered(http, address)
        back = page.get_by_label("Address that you were sent back to")
        back.fill("nonsense")
        expect(page.get_by_text("This is no address")).to_be_visible()
        back.fill(sent_to.replace("state=", "state=x"))
        expect(page.get_by_text("Its state is not the one that was sent")).to_be_visible()
        back.fill(sent_to)
        expect(page.get_by_text("are those that were expected")).to_be_visible()
        if kind == "web":
            page.get_by_label("Client secret").fill(client.secret)
        page.get_by_role("button", name="Redeem it").click()
        expect(page.get_by_role("heading", name="Code", exact=True)).to_be_visible()
        assert client.secret not in page.locator("ol.steps").inner_text() or not client.secret
        page.get_by_text("What the access token says").click()
        expect(page.get_by_role("rowheader", name="scope").first).to_be_visible()
        assert faults(page) == []
        page.get_by_role("button", name="Ask who it is").click()
        expect(page.get_by_text("Oskar Pell").first).to_be_visible()
        page.get_by_role("button", name="Refresh").click()
        expect(page.get_by_role("heading", name="Refresh")).to_be_visible()
        page.get_by_role("button", name="Give it back").click()
        expect(page.get_by_role("heading", name="Give back")).to_be_visible()
        page.get_by_role("button", name="Refresh").click()
        expect(page.get_by_text("invalid_grant")).to_be_visible()
