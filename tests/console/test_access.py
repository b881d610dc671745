"""The access model in the console: decisions at the desk, bounds, people and roles, and what an owner sees."""

from __future__ import annotations

import re

from playwright.sync_api import Route, expect

from jamb.core.reach import ReachKind
from jamb.wire.resources.reach import ReachSent
from tests.console.browser import Open, faults
from tests.world import World, unique

TRIAL = "quillhaven-trial"


def test_an_approver_narrows_at_the_desk_and_the_letter_rewrites_itself(world: World, open_console: Open) -> None:
    made = world.client(asked=["berths.assign"], secret=False)
    with world.jamb("registrar") as registrar:
        asked = registrar.requests.make(made.id, "Tugs wait at the breakwater")
    with open_console("approver", path="/desk") as page:
        page.get_by_role("row", name=re.compile(made.name)).get_by_role("link").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Maren Oduya asks for")
        expect(page.get_by_role("row", name=re.compile("Assign a ship"))).to_contain_text("37 of 37 berths")
        page.get_by_label("only in").check()
        expect(page.get_by_role("button", name=re.compile("^Grant"))).to_be_disabled()
        page.get_by_role("checkbox", name=re.compile("Fuel quay")).check()
        expect(page.get_by_role("row", name=re.compile("Assign a ship"))).to_contain_text("6 of 37 berths")
        expect(page.get_by_role("button", name="Decline")).to_be_enabled()
        assert faults(page) == []
        page.get_by_label("Words").fill("Fuel quay only")
        page.get_by_role("button", name=re.compile("^Grant 1 permission")).click()
        page.get_by_role("heading", name="Consent desk").wait_for()
        page.get_by_role("link", name="Decided").click()
        expect(page.get_by_role("row", name=re.compile(made.name))).to_contain_text("granted")
    with world.jamb("auditor") as auditor:
        assert [one.reach.words for one in auditor.consent.list(made.id)] == ["only fuel"]
        assert auditor.requests.read(asked.id).request.said == "Fuel quay only"


def test_a_dangerous_consent_is_seen_at_once_and_takes_two(world: World, open_console: Open) -> None:
    made = world.client(secret=False)
    with world.jamb("registrar") as registrar:
        registrar.asks.add(made.id, "crew", ["certificates.update"])
    with open_console("approver", path=f"/clients/{made.id}/consent") as page:
        expect(page.get_by_text("grave operations")).to_be_visible()
        expect(page.get_by_text("two approvers")).to_be_visible()
        expect(page.get_by_role("button", name=re.compile("^Grant"))).to_have_count(0)
        assert faults(page) == []
    with open_console("registrar", path=f"/clients/{made.id}/consent") as page:
        page.get_by_role("button", name="Ask an approver").click()
        page.get_by_label("Why it is needed").fill("Renewals")
        page.get_by_label("What are the records used for?").fill("Renewals")
        page.get_by_label("How long are they kept?").fill("Thirty days")
        page.get_by_label("I accept these terms").check()
        assert faults(page) == []
        page.get_by_role("button", name="Send the request").click()
        page.wait_for_url(f"**/clients/{made.id}")
    with world.jamb("approver") as approver:
        (asked,) = [one for one in approver.requests.list() if one.client_id == made.id]
        assert (asked.approvers, [one.answer for one in asked.answers]) == (2, ["Renewals", "Thirty days"])


def test_a_reach_is_narrowed_and_proven_in_the_dossier(world: World, open_console: Open) -> None:
    made = world.client(granted=["dispatches.read"], resource="dispatches", secret=False)
    with open_console("steward", path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name="dispatches.read").click()
        page.get_by_role("button", name="Change its reach").click()
        page.get_by_label("all but").check()
        page.get_by_role("checkbox", name=re.compile("Board")).check()
        assert faults(page) == []
        page.get_by_role("button", name="Set the reach").click()
        expect(page.locator("#ladder")).to_contain_text("all but board")
        sheet = page.locator("#reach")
        expect(sheet.get_by_role("row", name=re.compile("^Board"))).not_to_contain_text("yes")
        expect(sheet.get_by_role("row", name=re.compile("^Duty"))).to_contain_text("yes")
        sheet.get_by_label("One mailbox to test").fill("board.audit")
        page.get_by_role("button", name="Test it").click()
        expect(sheet).to_contain_text("board.audit lies in board")
        explain = page.locator("#explain")
        explain.get_by_label("Resource to explain").select_option("dispatches")
        explain.get_by_label("Operation to explain").select_option("messages.read")
        explain.get_by_label("To this mailbox").fill("board.audit")
        page.keyboard.press("Tab")
        expect(explain.locator(".verdict")).to_contain_text("Refused")
        expect(explain).to_contain_text("jamb consent reach")
        assert faults(page) == []


def test_a_list_is_pasted_and_what_one_may_do_is_inherited(world: World, open_console: Open) -> None:
    made = world.client(secret=False)
    with open_console("oskar", path=f"/clients/{made.id}") as page:
        expect(page.get_by_role("navigation", name="Main").get_by_role("link")).to_have_count(6)
        page.get_by_role("button", name="Ask for a permission").click()
        page.get_by_role("button", name="Paste a list").click()
        page.get_by_label("The list").fill("berths.view, berths.assign\nberths.fly")
        page.get_by_role("button", name="Look through the list").click()
        expect(page.get_by_text("comes along with")).to_be_visible()
        expect(page.get_by_role("button", name="Ask for 1 permission")).to_be_disabled()
        assert faults(page) == []
        page.get_by_label("The list").fill("berths.view, berths.assign")
        page.get_by_role("button", name="Look through the list").click()
        page.get_by_role("button", name="Ask for 1 permission").click()
        expect(page.locator("#ladder")).to_contain_text("berths.assign")
        page.get_by_role("button", name="Ask for a permission").click()
        page.get_by_role("button", name="Inherit what you may do").click()
        page.get_by_label("What it may do at Berths").select_option("nothing")
        page.get_by_label("What it may do at Tides").select_option("nothing")
        page.get_by_label("What it may do at Dispatches").select_option("read")
        page.get_by_role("button", name="Ask for 1 permission").click()
        expect(page.locator("#ladder")).to_contain_text("dispatches.read")


def test_a_steward_makes_a_group_and_a_role_and_assigns_it_to_places(world: World, open_console: Open) -> None:
    group, role = unique("crew").replace(" ", "-"), unique("watcher").replace(" ", "-")
    with open_console("steward", path="/people") as page:
        page.get_by_role("button", name="Make a group").click()
        page.get_by_label("Name").fill(group)
        page.get_by_label("Title").fill("Made in a test")
        page.get_by_role("searchbox", name="People").fill("haan")
        page.keyboard.press("Enter")
        page.get_by_role("button", name="Save the group").click()
        expect(page.get_by_role("row", name=f"Made in a test {group}")).to_contain_text("Wouter Haan")
        page.get_by_role("button", name="Make a role").click()
        page.get_by_label("Name").fill(role)
        page.get_by_label("Resource").select_option("berths")
        page.get_by_role("checkbox", name=re.compile("^berths.view")).check()
        page.get_by_role("button", name="Save the role").click()
        page.get_by_role("button", name=f"Assign {role}").click()
        page.get_by_label("groups", exact=True).check()
        page.get_by_role("checkbox", name="Made in a test").check()
        page.get_by_label("only in").check()
        page.get_by_role("checkbox", name=re.compile("South quay")).check()
        assert faults(page) == []
        page.locator("form").get_by_role("button", name=f"Assign {role}").click()
        held = page.get_by_role("row", name=re.compile(f"^{role} "))
        expect(held).to_contain_text("all of Made in a test, only south")
        page.get_by_role("button", name=f"Withdraw {role} from Made in a test").click()
        page.get_by_role("dialog").get_by_role("button", name="Withdraw the role").click()
        expect(held).to_contain_text("nobody")
    with world.jamb("steward") as steward:
        steward.roles.remove(role)
        steward.groups.remove(group)


def test_who_may_not_register_learns_whom_to_ask_and_an_owner_finds_their_clients(
    world: World, open_console: Open
) -> None:
    with open_console("pia", path="/") as page:
        page.get_by_role("heading", name="Clients").wait_for()
        expect(page.get_by_role("link", name="Pilot roster sync")).to_be_visible()
        expect(page.get_by_role("link", name="Radio bridge")).to_have_count(0)
        page.goto("/register")
        expect(page.get_by_text("You become its owner")).to_be_visible()
    with open_console("auditor", path="/register") as page:
        expect(page.get_by_text(re.compile("Ask .*Hanneke Brouwer or Maren Oduya"))).to_be_visible()


def test_an_owner_who_may_not_list_people_names_another_by_login(world: World, open_console: Open) -> None:
    made = world.client(secret=False)
    with open_console(None, path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name="change owners").click()
        page.get_by_label("Owners", exact=True).fill("Pia.Nowicki@quillhaven.example")
        page.get_by_role("button", name="Add", exact=True).click()
        assert faults(page) == []
        page.get_by_role("button", name="Save owners").click()
        expect(page.locator("main")).to_contain_text("Oskar Pell, Pia Nowicki")


def test_a_policy_says_what_would_change_before_it_is_saved(world: World, open_console: Open) -> None:
    held: list[Route] = []

    def hold(route: Route) -> None:
        held.append(route)

    with open_console("steward", path="/directory", directory=TRIAL) as page:
        page.get_by_role("button", name="Change the policy").click()
        save = page.get_by_role("button", name="Save the policy")
        expect(save).to_be_disabled()
        page.get_by_label("Secret lifetime, default").fill("400")
        page.get_by_label("Inheritance").check()
        page.get_by_label("Access token lifetime").fill("15")
        expect(page.get_by_text("Access token lifetime: 10 → 15 minutes")).to_be_visible()
        assert faults(page) == []
        save.click()
        expect(page.get_by_role("alert")).to_contain_text("at most 180")
        with page.expect_request("**/policy/preview"):
            page.route("**/policy/preview", hold, times=1)
            page.get_by_label("Secret lifetime, default").fill("50")
        expect(save).to_be_disabled()
        held[0].continue_()
        expect(page.get_by_text("Nobody would be newly in breach.")).to_be_visible()
        page.get_by_label("Secret lifetime, default").fill("45")
        save.click()
        # One steward is there: what would let one person do more alone waits for nobody.
        expect(page.get_by_role("alert")).to_contain_text("nobody else here could")
        page.get_by_label("Inheritance").uncheck()
        save.click()
        expect(page.get_by_text("45 days, at most 180")).to_be_visible()
    with world.jamb("steward", TRIAL) as steward:
        policy = steward.directory().policy
        assert (policy.access_token_seconds, policy.inheritance, policy.warn_days) == (900, False, 14)


def test_a_client_is_disabled_after_a_question_and_enabled_again(world: World, open_console: Open) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    with open_console("registrar", path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name="Disable it").click()
        page.get_by_role("button", name="Cancel").click()
        page.get_by_role("button", name="Disable it").click()
        page.get_by_role("button", name="Disable it").click()
        expect(page.get_by_label("Registration")).to_contain_text("disabled")
        page.get_by_role("button", name="Enable it again").click()
        expect(page.get_by_label("Registration")).to_contain_text("live")


def test_a_certificate_is_made_once_shown_once_and_disabled(world: World, open_console: Open) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    with open_console("steward", path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name="Add a credential").click()
        page.get_by_role("radio", name=re.compile("outside issuer")).check()
        page.get_by_label("Issuer", exact=True).fill("http://plain.example")
        page.get_by_label("Subject", exact=True).fill("job")
        page.get_by_role("button", name="Trust the issuer").click()
        expect(page.get_by_role("alert")).to_contain_text("an https address")
        assert faults(page) == []
        page.get_by_role("radio", name=re.compile("certificate made here")).check()
        page.get_by_label("Label").fill("Harbour host")
        page.get_by_role("button", name="Make the certificate").click()
        close = page.get_by_role("button", name="Close: the key is gone from here")
        expect(close).to_be_disabled()
        assert faults(page) == []
        with page.expect_download() as download:
            page.get_by_role("button", name=re.compile("Private key")).click()
        assert download.value.suggested_filename == "harbour-host.key"
        assert b"ENCRYPTED PRIVATE KEY" in download.value.path().read_bytes()
        page.get_by_label("I have the key").check()
        close.click()
        expect(page.get_by_text("ENCRYPTED")).to_have_count(0)
        row = page.locator("#credentials").get_by_role("row", name=re.compile("Harbour host"))
        row.get_by_role("button", name=re.compile("^sha256")).click()
        expect(page.locator("#credentials")).to_contain_text("private_key_jwt")
        assert faults(page) == []
        page.get_by_role("button", name="Disable this credential").click()
        expect(row).to_contain_text("disabled")


def test_a_refused_call_is_explained_where_it_is_listed(world: World, open_console: Open) -> None:
    with open_console("auditor", path="/clients?q=duty") as page:
        page.get_by_role("link", name="Duty mail digest").click()
        page.get_by_role("row", name=re.compile("board.papers")).get_by_role("button", name="why").click()
        expect(page.locator("#explain .verdict")).to_contain_text("Refused")
        expect(page.locator("#explain")).to_contain_text("board.papers lies in board; dispatches.read counts only duty")


def test_a_bound_wished_for_is_shown_to_whoever_decides(world: World, open_console: Open) -> None:
    made = world.client(secret=False)
    with world.jamb("registrar") as registrar:
        wished = ReachSent(kind=ReachKind.ONLY, collections=["south"])
        registrar.asks.add(made.id, "berths", ["berths.view"], reach=wished)
    with open_console("approver", path=f"/clients/{made.id}/consent") as page:
        expect(page.get_by_role("caption")).to_contain_text("only south")
        expect(page.get_by_label("only in")).to_be_checked()
        page.get_by_role("button", name=re.compile("^Grant 1 permission: 2 new operations, only south")).click()
        expect(page.locator("#ladder")).to_contain_text("only south")
