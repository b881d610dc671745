"""Nothing is lost and nothing untrue is said: lost answers, ended sessions, unsaved text, what is shown once, updates."""

from __future__ import annotations

import re
import time

import httpx
from playwright.sync_api import Page, Route, expect

from tests.console.browser import Open, faults
from tests.world import World, unique


def begin(page: Page, name: str) -> None:
    page.goto("/register")
    page.get_by_label("Name", exact=True).fill(name)
    page.get_by_label("Purpose").fill("Counts what is lost")


def test_a_lost_answer_is_asked_for_again_and_the_change_is_done_once(open_console: Open, world: World) -> None:
    made, lost = world.client(secret=False), []

    def lose(route: Route) -> None:
        route.fetch()
        lost.append(route.request.headers["idempotency-key"])
        route.abort()
        page.unroute("**/secrets")

    with open_console("steward", path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name="Add a credential").click()
        page.route("**/secrets", lose)
        page.get_by_role("button", name=re.compile("Issue a secret")).click()
        told = page.get_by_role("alert")
        expect(told).to_contain_text("It was done. Only the answer was lost on the way.")
        expect(told).to_contain_text("issue another in place of the one that nobody has")
        expect(page.locator("#credentials table code")).to_have_count(1)
        assert len(lost) == 1
        assert faults(page) == []
    with world.jamb() as steward:
        assert len(steward.clients.read(made.id).credentials) == 1


def test_a_secret_is_given_up_only_by_whoever_says_so(open_console: Open, world: World) -> None:
    made = world.client(secret=False)
    with open_console("steward", path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name="Add a credential").click()
        page.get_by_role("button", name=re.compile("Issue a secret")).click()
        shown = page.get_by_role("heading", name="The secret, for the only time")
        shown.wait_for()
        for leaves in (
            lambda: page.get_by_role("button", name="Cancel", exact=True).click(),
            lambda: page.get_by_role("link", name="Audit").click(),
        ):
            leaves()
            asked = page.get_by_role("dialog", name="Go on without the secret?")
            expect(asked.get_by_role("button", name="Stay here")).to_be_focused()
            assert faults(page) == []
            page.keyboard.press("Enter")
            expect(shown).to_be_visible()
            expect(asked).to_have_count(0)
        page.get_by_label("I have put the secret where it belongs").check()
        page.get_by_role("button", name="Close: the secret is gone from here").click()
        expect(shown).to_have_count(0)
        page.get_by_role("link", name="Audit").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Audit")


def test_whoever_leaves_what_they_typed_is_asked(open_console: Open) -> None:
    with open_console("steward") as page:
        begin(page, unique("Unsaved"))
        page.get_by_role("link", name="Today").click()
        asked = page.get_by_role("dialog", name="Leave without saving?")
        asked.get_by_role("button", name="Stay here").click()
        expect(page.get_by_label("Purpose")).to_have_value("Counts what is lost")
        page.get_by_role("link", name="Today").click()
        asked.get_by_role("button", name="Leave the page").click()
        expect(page).to_have_url(re.compile(r"/$"))
        # A search is nothing that could be lost.
        page.goto("/clients")
        page.get_by_label("Name or purpose").fill("Berth")
        page.get_by_role("link", name="Today").click()
        expect(page).to_have_url(re.compile(r"/$"))
        # The next page may take longer than the pause after which a word is looked for.
        page.goto("/clients")
        page.route(re.compile(r"/assets/Audit-"), late)
        page.get_by_label("Name or purpose").fill("Berth")
        page.get_by_role("link", name="Audit").click()
        expect(page).to_have_url(re.compile(r"/audit$"))


def late(route: Route) -> None:
    time.sleep(1)
    route.continue_()


def test_a_session_that_ends_is_gone_on_with_over_the_page(open_console: Open, world: World) -> None:
    name = unique("Gone on")
    with open_console("steward") as page:
        begin(page, name)
        (cookie,) = [one for one in page.context.cookies() if one["name"] == "jamb_session"]
        with httpx.Client(base_url=world.base_url, cookies={"jamb_session": cookie["value"]}, timeout=60) as http:
            csrf = http.get("/api/v1/session").json()["csrf"]
            http.delete("/api/v1/session", headers={"X-Jamb-CSRF": csrf}).raise_for_status()
        page.get_by_role("button", name=re.compile("^Register")).click()
        over = page.get_by_role("dialog", name="Your session has ended")
        expect(over).to_contain_text("What you typed is still there")
        assert faults(page) == []
        over.get_by_label("Password").fill(world.person("steward")["password"])
        over.get_by_role("button", name="Sign in").click()
        expect(over).to_have_count(0)
        expect(page).to_have_url(re.compile("/register/.+"))
        page.goto("/clients?q=" + name)
        expect(page.get_by_role("link", name=name, exact=True)).to_have_count(1)


def test_who_signs_out_in_one_tab_is_gone_from_the_other(open_console: Open) -> None:
    with open_console(path="/clients") as page:
        page.get_by_role("table").wait_for()
        other = page.context.new_page()
        other.goto("/audit")
        other.get_by_role("button", name="Sign out").click()
        expect(page.get_by_role("heading", name="Sign in")).to_be_visible()


def test_a_part_that_does_not_come_is_said_and_an_update_is_loaded(open_console: Open) -> None:
    with open_console(path="/clients") as page:
        page.get_by_role("table").wait_for()
        page.route("**/assets/Audit-*.js", lambda route: route.fulfill(status=404, body=""))
        page.route(re.compile(r"/$"), lambda route: route.abort())
        page.get_by_role("link", name="Audit").click()
        told = page.get_by_role("alert")
        expect(told).to_contain_text("This page could not be loaded.")
        expect(page.get_by_role("table")).to_be_visible()
        assert faults(page) == []
        # The service is there again, with parts of other names: the page is loaded anew by itself.
        page.unroute("**/assets/Audit-*.js")
        page.unroute(re.compile(r"/$"))
        told.get_by_role("button", name="Load it again").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Audit")


def test_a_service_that_is_away_at_the_start_is_said_and_tried_again(open_console: Open) -> None:
    with open_console(path="/clients") as page:
        for what in ("**/whoami", "**/api/v1/session"):
            page.route(what, lambda route: route.fulfill(status=503, body="{}"))
            page.reload()
            expect(page.get_by_role("heading", name="Jamb cannot be shown now")).to_be_visible()
            assert faults(page) == []
            page.unroute(what)
            page.get_by_role("button", name="Try again now").click()
            expect(page.get_by_role("table")).to_be_visible()


def test_a_browser_that_is_offline_says_so_and_rows_are_not_taken_for_an_answer(open_console: Open) -> None:
    with open_console(path="/clients") as page:
        page.get_by_role("table").wait_for()
        page.context.set_offline(True)
        page.get_by_role("button", name="no owner").click()
        expect(page.get_by_role("alert")).to_contain_text("The service does not answer.")
        expect(page.get_by_role("status").filter(has_text="match")).to_have_count(0)
        page.context.set_offline(False)
        page.get_by_role("button", name="Try again").click()
        expect(page.get_by_role("alert")).to_have_count(0)


def test_who_saves_second_sees_both_versions_and_chooses(open_console: Open, world: World) -> None:
    made = world.client(secret=False)
    with open_console("steward", path=f"/clients/{made.id}") as page, world.jamb("registrar") as other:
        page.get_by_role("button", name="Change it").click()
        form = page.locator("form").filter(has=page.get_by_label("Purpose"))
        form.get_by_label("Purpose").fill("As the steward says")
        other.clients.change(made.id, purpose="As the registrar says", support_contact="help@quillhaven.example")
        form.get_by_role("button", name="Save").click()
        told = page.get_by_role("alert", name="Changed meanwhile")
        expect(told.get_by_role("row", name="Purpose")).to_contain_text("As the registrar says")
        expect(told.get_by_role("row", name="Support contact")).to_contain_text("you changed nothing here")
        save = form.get_by_role("button", name="Save")
        expect(save).to_be_disabled()
        assert faults(page) == []
        told.get_by_label("As the steward says").check()
        save.click()
        expect(form).to_have_count(0)
        said = other.clients.read(made.id).client
        assert (said.purpose, said.support_contact) == ("As the steward says", "help@quillhaven.example")


def test_a_policy_that_was_changed_meanwhile_is_shown_beside_ones_own(open_console: Open, world: World) -> None:
    world.open_directory("losses")
    with (
        open_console("steward", directory="losses", path="/directory") as page,
        world.jamb("steward", "losses") as other,
    ):
        page.get_by_role("button", name="Change the policy").click()
        page.get_by_label("Warn before expiry").fill("30")
        expect(page.get_by_text("Nobody would be newly in breach.")).to_be_visible()
        other.change_policy(warn_days=21, quiet_days=5)
        page.get_by_role("button", name="Save the policy").click()
        told = page.get_by_role("alert", name="Changed meanwhile")
        told.get_by_role("row", name="Warn before expiry").get_by_label("21").check()
        expect(page.get_by_label("Quiet period of the old credential")).to_have_value("5")
