"""A real browser signs in to an application by Jamb: asked, declined, allowed, ended."""

from __future__ import annotations

import re
from pathlib import Path
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx
import pytest
from playwright.sync_api import Browser, Page, Route, expect

from tests.console.browser import PATIENCE, Open, faults
from tests.service.entry.roster import Roster, by_hand, made, somebody
from tests.service.entry.test_logos import drawn
from tests.world import World

BACK = "https://roster.quillhaven.example/signed-in"


def fill(page: Page, world: World, who: str) -> None:
    person = world.person(who)
    page.get_by_label("Login").fill(person["login"])
    page.get_by_label("Password").fill(person["password"])
    page.get_by_role("button", name="Sign in").click()


def test_a_person_signs_in_at_an_application_and_sees_what_they_themselves_may(world: World, browser: Browser) -> None:
    """The application is on another site than the issuer (127.0.0.1 and localhost): cookies are as strict as they are."""
    watch = f"{world.berths_url}/watch"
    with browser.new_context(viewport={"width": 1280, "height": 800}) as context:
        page = context.new_page()
        page.set_default_timeout(PATIENCE)
        page.goto(watch)
        page.get_by_role("link", name="Sign in").click()
        expect(page.get_by_role("heading", level=1)).to_have_text("Sign in for Watch tablet")
        expect(page.get_by_label("Login")).to_be_focused()
        page.emulate_media(color_scheme="light")
        assert faults(page) == []
        fill(page, world, "pia")
        # Berths are hers to see, and she may let it do so: nobody else has allowed it for her.
        expect(page.get_by_role("heading", level=1)).to_have_text(
            re.compile("Watch of Pia Nowicki|wants to act for you")
        )
        if page.get_by_role("button", name="Decline").count():
            page.get_by_role("button", name=re.compile("Allow|Go on")).click()
        expect(page.get_by_role("heading", level=1)).to_have_text("Watch of Pia Nowicki")
        expect(page.get_by_role("cell", name="north-1", exact=True)).to_be_visible()
        # Nothing is left to decide, but whatever listens at that port could ask in its name (RFC 8252 section 8.6).
        page.get_by_role("link", name="Leave").click()
        page.get_by_role("link", name="Sign in").click()
        expect(page.get_by_role("heading", level=1)).to_have_text("Watch tablet wants to act for you")
        expect(page.get_by_role("checkbox")).to_have_count(0)
        page.get_by_role("button", name="Go on").click()
        expect(page.get_by_role("heading", level=1)).to_have_text("Watch of Pia Nowicki")
        page.goto(f"{world.base_url}/applications")
        row = page.get_by_role("row", name=re.compile("Watch tablet")).first
        expect(row).to_contain_text("See berths")
        assert faults(page) == []
        while page.get_by_role("row", name=re.compile("Watch tablet")).count():
            row = page.get_by_role("row", name=re.compile("Watch tablet")).first
            row.get_by_role("button", name="End", exact=True).click()
            count = page.get_by_role("row", name=re.compile("Watch tablet")).count()
            row.get_by_role("button", name="End it now").click()
            expect(page.get_by_role("row", name=re.compile("Watch tablet"))).to_have_count(count - 1)
        page.wait_for_timeout(2500)
        page.goto(watch)
        expect(page.get_by_text("Berths refused")).to_be_visible()


@pytest.fixture
def kiosk(world: World) -> Roster:
    return made(world, "browser", [BACK], ["berths.view", "berths.manage"], granted=False)


def sent_back(page: Page) -> list[str]:
    """Where the browser is sent: to a host that is not there, so it is caught on the way."""
    seen: list[str] = []

    def arrived(route: Route) -> None:
        seen.append(route.request.url)
        route.fulfill(body="back")

    page.route("https://roster.quillhaven.example/**", arrived)
    return seen


def test_what_an_application_asks_is_told_in_words_and_declining_is_the_default(
    world: World, open_console: Open, kiosk: Roster
) -> None:
    address, _ = by_hand(kiosk, scope="openid profile offline_access berths.view berths.manage")
    with world.jamb() as steward:
        steward.clients.change(kiosk.id, policy_uri="https://quillhaven.example/privacy")
    with open_console("pia", path="/password") as page:
        seen = sent_back(page)
        page.goto(address)
        expect(page.get_by_role("heading", level=1)).to_have_text(f"{kiosk.name} wants to act for you")
        expect(page.get_by_label("See berths")).to_be_checked()
        expect(page.get_by_text("See which ship lies where, as you do.")).to_be_visible()
        expect(page.get_by_role("heading", name="Only an administrator can allow")).to_be_visible()
        expect(page.get_by_role("link", name="Privacy policy")).to_have_attribute(
            "href", "https://quillhaven.example/privacy"
        )
        expect(page.get_by_role("button", name="Decline")).to_be_focused()
        assert faults(page) == []
        page.set_viewport_size({"width": 390, "height": 800})
        assert page.evaluate("document.documentElement.scrollWidth <= 390")
        page.keyboard.press("Enter")
        page.wait_for_url(re.compile("^https://roster"))
        assert "error=access_denied" in seen[-1]
        page.goto(address)
        page.get_by_role("button", name="Allow").click()
        page.wait_for_url(re.compile("^https://roster"))
        assert "code=" in seen[-1]
        assert "state=of" in seen[-1]


def test_what_only_an_administrator_can_allow_becomes_a_request(
    world: World, open_console: Open, kiosk: Roster
) -> None:
    address, _ = by_hand(kiosk, scope="openid berths.view berths.manage")
    with open_console("pia", path="/password") as page:
        page.goto(address)
        page.get_by_role("button", name="Ask an administrator").click()
        expect(page.get_by_label("Why you need it")).to_be_focused()
        assert faults(page) == []
        page.get_by_label("Why you need it").fill("I close the north quay on Sundays")
        page.get_by_role("button", name="Send the request").click()
        expect(page.get_by_role("status")).to_contain_text("waits at the consent desk")
        assert faults(page) == []
        page.goto(address)
        expect(page.get_by_role("status")).to_contain_text("waits at the consent desk")
        expect(page.get_by_role("button", name="Ask an administrator")).to_have_count(0)
    with world.jamb("approver") as approver:
        (waiting,) = [one for one in approver.requests.list() if one.client_id == kiosk.id]
        assert (waiting.requested_by, waiting.reason) == ("Pia Nowicki", "I close the north quay on Sundays")
        assert len(waiting.asks) == 1, waiting.asks


def test_nobody_asks_for_more_than_the_registration_does(world: World, kiosk: Roster) -> None:
    """Neither for what it does not ask, nor for what is theirs to allow, nor without end."""
    with somebody(world, "pia") as http:
        for scope in ("openid arrivals.view", "openid berths.view"):
            request = urlsplit(
                httpx.get(by_hand(kiosk, scope=scope)[0], follow_redirects=False, timeout=60).headers["location"]
            ).fragment
            body = {"request": request, "reason": "Because"}
            refused = http.post("/api/v1/authorizations/requests", json=body)
            assert refused.status_code == 409, refused.text
            assert "nothing that you could ask" in refused.json()["detail"]


def test_an_answer_is_carried_to_the_application_as_a_form(open_console: Open, kiosk: Roster) -> None:
    with open_console("pia", path="/password") as page:
        sent_back(page)
        with page.expect_request(lambda request: request.url == BACK) as caught:
            page.goto(by_hand(kiosk, response_mode="form_post", scope="openid berths.view")[0])
            page.get_by_role("button", name="Allow").click()
        expect(page.locator("body")).to_have_text("back")
        assert caught.value.method == "POST"
        assert caught.value.post_data is not None
        assert {"code", "state", "iss"} <= parse_qs(caught.value.post_data).keys()


def test_an_application_that_wants_somebody_signed_out_asks_them_first(
    world: World, open_console: Open, kiosk: Roster
) -> None:
    afterwards = "https://roster.quillhaven.example/bye"
    with world.jamb() as steward:
        steward.clients.change(kiosk.id, post_logout_redirect_uris=[afterwards])
    endpoint = kiosk.metadata["end_session_endpoint"]
    with open_console("pia", path="/password") as page:
        seen = sent_back(page)
        page.goto(f"{endpoint}?{urlencode({'client_id': kiosk.id, 'post_logout_redirect_uri': afterwards})}")
        expect(page.get_by_role("heading", level=1)).to_have_text("Sign out of Quillhaven Port Authority?")
        expect(page.get_by_text(f"{kiosk.name} asks for it.")).to_be_visible()
        expect(page.get_by_role("button", name="Cancel")).to_be_focused()
        assert faults(page) == []
        page.set_viewport_size({"width": 390, "height": 800})
        assert page.evaluate("document.documentElement.scrollWidth <= 390")
        page.keyboard.press("Enter")
        expect(page.get_by_role("status")).to_contain_text("You are still signed in")
        page.reload()
        page.get_by_role("button", name="Sign out").click()
        page.wait_for_url(afterwards)
        assert seen == [afterwards]
        page.goto(f"{endpoint}?client_id={kiosk.id}")
        expect(page.get_by_role("status")).to_contain_text("You are signed out")
        page.goto(f"{endpoint}?{urlencode({'client_id': kiosk.id, 'post_logout_redirect_uri': BACK})}")
        expect(page.get_by_role("alert")).to_contain_text("an address that is not registered for it")
        assert faults(page) == []


def test_who_is_outside_reads_why_and_goes_back(world: World, open_console: Open, kiosk: Roster) -> None:
    with world.jamb() as steward:
        steward.clients.change(kiosk.id, sign_in_groups=["night-watch"], support_contact="help@quillhaven.example")
    with open_console("pia", path="/password") as page:
        seen = sent_back(page)
        page.goto(by_hand(kiosk, scope="openid berths.view")[0])
        expect(page.get_by_role("alert")).to_contain_text("is for people of Night watch alone")
        expect(page.get_by_role("alert")).to_contain_text("Ask help@quillhaven.example to let you in")
        assert faults(page) == []
        page.get_by_role("button", name="Back to the application").click()
        page.wait_for_url(re.compile("^https://roster"))
        assert "error=access_denied" in seen[-1]


def test_what_cannot_be_asked_is_a_sentence_and_nobody_is_sent_away(open_console: Open, kiosk: Roster) -> None:
    with open_console("pia", path="/password") as page:
        page.goto(by_hand(kiosk, redirect_uri=BACK + "/")[0])
        expect(page.get_by_role("alert")).to_contain_text("an address that is not registered for it")
        assert page.url.split("#")[0].endswith("/allow")
        assert faults(page) == []


def test_a_logo_is_chosen_on_the_client_s_page_and_met_by_people(
    world: World, open_console: Open, kiosk: Roster, tmp_path: Path
) -> None:
    (tmp_path / "pennant.png").write_bytes(drawn())
    (tmp_path / "large.png").write_bytes(bytes(500_001))
    with open_console("steward", path=f"/clients/{kiosk.id}") as page:
        page.get_by_role("button", name="Change it").click()
        field = page.locator("input[type=file]")
        field.set_input_files(tmp_path / "large.png")
        expect(page.get_by_role("alert")).to_contain_text("500,001 bytes; at most 500,000 bytes")
        field.set_input_files(tmp_path / "pennant.png")
        expect(page.get_by_role("alert")).to_have_count(0)
        page.get_by_role("button", name="Save", exact=True).click()
        kept = page.locator("dl img")
        expect(kept).to_be_visible()
        assert kept.evaluate("one => one.decode().then(() => one.naturalWidth)") == 192
        assert faults(page) == []
    with open_console("pia", path="/password") as page:
        page.goto(by_hand(kiosk, scope="openid berths.view")[0])
        expect(page.get_by_role("button", name="Decline")).to_be_focused()
        assert page.locator("main img").evaluate("one => one.decode().then(() => one.naturalWidth)") == 192
        assert faults(page) == []
    with open_console("steward", path=f"/clients/{kiosk.id}") as page:
        page.get_by_role("button", name="Change it").click()
        page.get_by_role("button", name="Take it off").click()
        expect(page.get_by_role("status").filter(has_text="taken off")).to_be_visible()
        page.get_by_role("button", name="Save", exact=True).click()
        expect(page.locator("dl img")).to_have_count(0)
