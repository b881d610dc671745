"""Whoever comes, however they look at it: narrow windows, few rights, and a safe answer first."""

from __future__ import annotations

import csv
import json
import re
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from jamb.core.clients.clients import OwnerLevel
from jamb.wire.audit.audit import Severity
from tests.console.browser import Open, faults
from tests.world import World, unique

PAGES = (
    "/",
    "/clients",
    "/clients/{client}",
    "/clients/{client}/consent",
    "/charter",
    "/register",
    "/desk",
    "/desk/{request}",
    "/rotation",
    "/audit",
    "/audit/excess",
    "/audit/consents",
    "/audit/escalation-paths",
    "/reviews",
    "/resources",
    "/people",
    "/directory",
    "/password",
    "/applications",
)
# 1280 at 200 and 400 per cent, and a phone (WCAG 2.2, 1.4.10).
WIDTHS = (640, 320, 390)
OVERFLOW = "document.documentElement.scrollWidth - document.documentElement.clientWidth"


@pytest.fixture
def asked(world: World) -> dict[str, Any]:
    made = world.client(asked=["berths.assign"], secret=False)
    with world.jamb("registrar") as registrar:
        request = registrar.requests.make(made.id, "Tugs wait at the breakwater")
    return {"client": made.id, "request": request.id}


def test_in_a_low_window_every_place_is_reached_by_the_mouse(open_console: Open) -> None:
    with open_console("steward") as page:
        page.set_viewport_size({"width": 1280, "height": 360})
        for place, heading in (("Audit", "Audit"), ("Directory", "Quillhaven Port Authority")):
            page.get_by_role("navigation").get_by_role("link", name=place, exact=True).click(timeout=10_000)
            page.get_by_role("heading", name=heading, level=1).wait_for()
        page.get_by_role("button", name="Sign out").click(timeout=10_000)


def test_no_page_moves_sideways_at_any_width(open_console: Open, asked: dict[str, Any]) -> None:
    with open_console("steward") as page:
        # Exact times are the longer ones.
        page.evaluate("localStorage.setItem('jamb-times', 'clock')")
        for path in PAGES:
            page.goto(path.format(**asked))
            page.wait_for_load_state("networkidle")
            for width in WIDTHS:
                page.set_viewport_size({"width": width, "height": 800})
                assert page.evaluate(OVERFLOW) <= 0, (path, width)
        assert faults(page) == []


def test_the_places_are_behind_one_button_on_a_phone(open_console: Open) -> None:
    with open_console("steward") as page:
        page.set_viewport_size({"width": 390, "height": 844})
        places = page.get_by_role("navigation", name="Main").get_by_role("link", name="Audit")
        expect(places).to_be_hidden()
        page.get_by_role("button", name="Menu").click()
        assert faults(page) == []
        places.click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Audit")
        expect(places).to_be_hidden()
        # Tables that move within themselves can be moved by keys.
        page.goto("/clients")
        expect(page.get_by_role("table")).to_have_attribute("tabindex", "0")
        assert faults(page) == []


def test_a_page_is_printed_whole(open_console: Open) -> None:
    with open_console("steward", path="/clients") as page:
        page.get_by_role("table").wait_for()
        page.emulate_media(media="print")
        width = page.evaluate("document.querySelector('main').getBoundingClientRect().width")
        assert width > 1200
        expect(page.get_by_role("navigation", name="Main")).to_be_hidden()


def test_who_may_only_see_a_client_has_no_button_that_refuses(open_console: Open, world: World) -> None:
    made = world.client(granted=["berths.view"])
    with world.jamb("steward") as steward:
        owner = world.person(None)
        steward.clients.change_owners(made.id, add=[owner["login"]], level=OwnerLevel.READ)
    with open_console(None, path=f"/clients/{made.id}") as page:
        page.get_by_role("heading", name="Ladder").wait_for()
        named = re.compile("Change it|change owners|Disable|Revoke|Ask for a permission|Add a credential|^Withdraw")
        expect(page.get_by_role("button", name=named)).to_have_count(0)
    with world.session(None) as http:
        path = f"/api/v1/directories/quillhaven/clients/{made.id}"
        refused = http.post(f"{path}/state", json={"state": "disabled", "reason": "No"}).json()
        assert "you may look at it, and no more" in refused["detail"]
        assert "Ask " in refused["next_step"]
        assert made.id not in str(refused)
        assert "clients.read" in http.get(path).json()["may"]
        # Of a client that they may not see nothing is told.
        with world.jamb() as steward:
            other = steward.clients.register(unique("Not seen"), "Nobody tells")
        body = {"state": "disabled", "reason": "No"}
        hidden = http.post(f"/api/v1/directories/quillhaven/clients/{other.id}/state", json=body)
        assert (hidden.status_code, other.name in hidden.text) == (403, False)


def test_what_is_asked_is_declined_without_a_request_and_history_says_why(open_console: Open, world: World) -> None:
    made = world.client(asked=["berths.view", "berths.assign"], secret=False)
    with open_console("approver", path=f"/clients/{made.id}/consent") as page:
        page.get_by_role("checkbox", name=re.compile("berths.view")).uncheck()
        # Enter declines, and a decline wants words.
        page.get_by_label("Words").press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("Say why you decline")
        page.get_by_label("Words").fill("The board assigns nothing")
        page.get_by_label("Words").press("Enter")
        page.wait_for_url(f"**/clients/{made.id}")
        expect(page.locator("#ladder")).not_to_contain_text("berths.assign")
        expect(page.locator("#ladder")).to_contain_text("waits for consent")
    with world.jamb("auditor") as auditor:
        (entry,) = [one for one in auditor.ledger.list(client=made.id) if one.action == "ask.declined"]
    assert (entry.reason, entry.before["permission"]) == ("The board assigns nothing", "berths.assign")


def test_a_person_is_made_inactive_only_by_who_says_so_twice(open_console: Open, world: World) -> None:
    name = unique("Leaves soon")
    login = f"{name.lower().replace(' ', '.')}@quillhaven.example"
    with world.jamb("steward") as steward:
        steward.people.add(login, name)
    with open_console("steward", path="/people") as page:
        find = page.get_by_label("Find a person")
        if find.count():
            find.fill(name)
        page.get_by_role("button", name=f"make inactive: {name}").click()
        asked = page.get_by_role("dialog", name=f"Make {name} inactive?")
        expect(asked.get_by_role("button", name="Cancel")).to_be_focused()
        page.keyboard.press("Enter")
        page.get_by_role("button", name=f"make inactive: {name}").click()
        asked.get_by_role("button", name=f"Make {name} inactive").click()
        expect(page.get_by_role("button", name=f"make active: {name}")).to_be_visible()


def test_a_resource_of_many_permissions_stays_small(open_console: Open, world: World) -> None:
    name = unique("many").lower().replace(" ", "-")
    operations = [
        {"name": f"o{n}", "title": f"Do {n}", "method": "GET", "path": f"/{n}", "effect": "read", "data_class": "open"}
        for n in range(300)
    ]
    permissions = [
        {"name": f"p{n}", "title": f"May {n}", "kinds": ["application"], "unlocks": [f"o{n}"]} for n in range(300)
    ]
    body = {
        "title": name,
        "identifier": f"https://{name}.example",
        "operations": operations,
        "permissions": permissions,
    }
    with world.session("steward") as http:
        http.put(f"/api/v1/directories/quillhaven/resources/{name}", json=body).raise_for_status()
    with open_console("steward", path=f"/resources/{name}") as page:
        page.get_by_role("heading", name="Permissions").wait_for()
        assert page.evaluate("document.querySelectorAll('*').length") < 6000
        page.get_by_label("Find an operation or permission").fill("p299")
        expect(page.get_by_role("row", name=re.compile("Do 299"))).to_contain_text("unlocks")
        page.get_by_label("Find a permission", exact=True).fill("p299")
        expect(page.get_by_role("row", name=re.compile("p299 May 299"))).to_be_visible()
        assert page.evaluate(OVERFLOW) <= 0


def test_anything_is_found_while_one_types(open_console: Open) -> None:
    with open_console("steward", path="/clients") as page:
        page.get_by_role("table").wait_for()
        page.keyboard.press("/")
        field = page.get_by_role("combobox", name="Find anything")
        expect(field).to_be_focused()
        page.keyboard.type("close a b")
        page.get_by_role("option", name=re.compile("berth.close")).wait_for()
        page.keyboard.press("ArrowDown")
        expect(page.get_by_role("option", selected=True)).to_contain_text("berth.close")
        assert faults(page) == []
        page.keyboard.press("Enter")
        expect(page).to_have_url(re.compile("/resources/berths"))
        expect(page.get_by_role("row", name=re.compile("Close a berth"))).to_be_visible()
        field.fill("oskar pell")
        page.get_by_role("option", name=re.compile("Oskar Pell")).click()
        expect(page.get_by_label("Find a person")).to_have_value("Oskar Pell")
        field.fill("nothing-like-it")
        expect(page.get_by_text("Nothing has “nothing-like-it” in its name.")).to_be_visible()
        page.keyboard.press("Escape")
        expect(page.get_by_text("Nothing has")).to_have_count(0)


def test_the_focus_stays_where_the_person_is(open_console: Open, world: World) -> None:
    made = world.client(secret=False)
    focused = "document.activeElement.tagName"
    with open_console("steward", path=f"/clients/{made.id}") as page:
        expect(page).to_have_title(re.compile(rf"^{re.escape(made.name)} · Client"))
        for press in ("Change it", "Cancel", "Ask for a permission", "Cancel", "Disable it", "Cancel"):
            page.get_by_role("button", name=press, exact=True).first.press("Enter")
            page.wait_for_timeout(250)
            assert page.evaluate(focused) != "BODY", press
        page.get_by_role("button", name="Disable it").press("Enter")
        page.get_by_role("button", name="Disable", exact=False).last.press("Enter")
        expect(page.get_by_role("button", name="Enable it again")).to_be_visible()
        page.wait_for_timeout(250)
        assert page.evaluate(focused) != "BODY"
        # Rows of a list that has no keys of its own.
        page.goto("/people")
        page.get_by_role("table").first.wait_for()
        page.keyboard.press("j")
        page.keyboard.press("j")
        second = page.evaluate(
            "[...document.querySelectorAll('tbody tr')].findIndex(r => r.contains(document.activeElement))"
        )
        page.keyboard.press("ArrowUp")
        first = page.evaluate(
            "[...document.querySelectorAll('tbody tr')].findIndex(r => r.contains(document.activeElement))"
        )
        assert (second > 0, first) == (True, 0)


def test_what_is_listed_is_saved_whole_as_it_is_filtered(open_console: Open, world: World) -> None:
    with open_console("auditor", path="/clients?attention=ownerless") as page:
        page.get_by_role("table").wait_for()
        with page.expect_download() as coming:
            page.get_by_role("button", name="CSV").click()
        with Path(coming.value.path()).open(newline="") as file:
            rows = list(csv.DictReader(file))
    with world.jamb("auditor") as auditor:
        listed = {one.id: (one.name, str(one.ladder.asked)) for one in auditor.clients.list(attention="ownerless")}
    assert {row["id"]: (row["name"], row["asked"]) for row in rows} == listed


def test_findings_people_and_the_ledger_are_saved_with_all_that_is_told(open_console: Open, world: World) -> None:
    def saved(page: Page, what: str, form: str) -> str:
        with page.expect_download() as coming:
            page.get_by_text(f"Save {what} as").locator("..").get_by_role("button", name=form).click()
        return Path(coming.value.path()).read_text()

    with open_console("auditor", path="/audit?severity=high") as page:
        lines = [json.loads(line) for line in saved(page, "these findings", "JSON Lines").splitlines()]
    with world.jamb("auditor") as auditor:
        high = {str(one.id) for one in auditor.findings.list(severity=Severity.HIGH)}
    assert {one["id"] for one in lines} == high
    with open_console("auditor", path="/people?person=Pia") as page:
        rows = {row["name"]: row for row in csv.DictReader(saved(page, "who matches", "CSV").splitlines())}
    assert all("pia" in f"{row['name']} {row['login']} {row['roles']}".lower() for row in rows.values())
    assert (rows["Pia Nowicki"]["active"], "crew-clerk" in rows["Pia Nowicki"]["roles"]) == ("true", True)
    with open_console("auditor", path="/directory") as page:
        entries = [json.loads(line)["sequence"] for line in saved(page, "the whole ledger", "JSON Lines").splitlines()]
    assert entries == list(range(entries[0], 0, -1))
