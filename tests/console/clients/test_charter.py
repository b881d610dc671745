"""A charter in the console: compared, followed as far as one may, and saved from a client."""

from __future__ import annotations

import re

from playwright.sync_api import expect

from tests.console.browser import Open, faults
from tests.world import World, unique

WRITTEN = """\
charter = 1
name = "{name}"
purpose = "Copies the board to the quays"
kind = "service"

[[asks]]
resource = "berths"
permission = "berths.view"
reason = "Shows which ship lies where"

[[asks]]
resource = "berths"
permission = "arrivals.view"
in = ["north"]
"""


def test_a_charter_is_followed_as_far_as_one_may_and_the_rest_is_led_to(world: World, open_console: Open) -> None:
    name = unique("Quay board")
    with open_console("registrar", path="/clients") as page:
        page.get_by_role("button", name="Compare a charter").click()
        field = page.get_by_label("Charter", exact=False).first
        field.fill("charter = 1\nname = ")
        page.get_by_role("button", name="Compare it").click()
        expect(page.get_by_role("alert")).to_contain_text("This is not TOML")
        field.fill('charter = 1\nname = "x"\npurpose = "y"\nowner = "me"\n')
        page.get_by_role("button", name="Compare it").click()
        expect(page.get_by_role("alert")).to_contain_text("owner")

        field.fill(WRITTEN.format(name=name))
        page.get_by_role("button", name="Compare it").click()
        expect(page.get_by_role("heading", name=f"{name} is not here yet")).to_be_visible()
        expect(page.get_by_text("as itself, it can do, new")).to_be_visible()
        assert faults(page) == []
        page.get_by_role("button", name="Follow it: register it, ask for 2 permissions").click()
        done = page.get_by_role("status").filter(has_text="Registered it.")
        expect(done).to_contain_text("Asked for arrivals.view of berths.")
        expect(page.get_by_role("heading", name=f"{name} is here")).to_be_visible()
        # What is left is another's.
        expect(page.get_by_role("button", name=re.compile("^Follow it"))).to_have_count(0)
        expect(page.get_by_role("link", name="Look at what waits for consent").first).to_be_visible()
        with world.jamb("approver") as approver:
            approver.consent.grant(approver.clients.find(name).id)
        page.get_by_role("button", name="Compare it").click()
        expect(page.get_by_role("status").filter(has_text="It is as the charter says")).to_be_visible()

        field.fill(WRITTEN.format(name=name).replace("Copies", "Paints"))
        page.get_by_role("button", name="Compare it").click()
        page.get_by_role("button", name="Follow it: change 1 fact").click()
        expect(page.get_by_role("status").filter(has_text="Changed what the registration says.")).to_be_visible()
        expect(page.get_by_role("status").filter(has_text="It is as the charter says")).to_be_visible()

        page.get_by_role("link", name=name).click()
        with page.expect_download() as saving:
            page.get_by_role("button", name="Save it as a charter").click()
        text = saving.value.path().read_text()
        assert "Paints the board" in text
        assert 'in = [\n    "north",\n]' in text
    with world.jamb("auditor") as auditor:
        rungs = [
            rung for place in auditor.clients.read(auditor.clients.find(name).id).resources for rung in place.rungs
        ]
    assert {rung.permission: rung.wished.words for rung in rungs} == {
        "arrivals.view": "only north",
        "berths.view": "everywhere",
    }
