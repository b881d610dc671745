"""Every page: readable by machines that read aloud, by the keyboard alone, and under a strict policy."""

from __future__ import annotations

import gzip
import re
from collections.abc import Callable

import pytest
from playwright.sync_api import Page, expect

from jamb.client import DeviceSignIn
from tests import patient
from tests.console.browser import Open, faults
from tests.world import World, add_person, unique

FIRST_LOAD_BYTES = 150_000


def dossier(page: Page) -> None:
    page.get_by_role("link", name="Weather display").click()
    page.get_by_role("heading", name="Ladder").wait_for()
    page.get_by_role("button", name="gauges.manage").click()
    page.get_by_role("button", name="Connection sheet").click()
    page.get_by_label("Connection sheet", exact=True).wait_for()
    page.get_by_role("button", name="Ask for a permission").click()
    page.get_by_label("Resource", exact=True).select_option("berths")
    page.get_by_role("checkbox", name="List berths").check()
    page.get_by_label("Resource to explain").select_option("berths")
    page.get_by_label("Operation to explain").select_option("berths.list")
    page.get_by_text("The smallest change that would allow it").wait_for()
    page.get_by_role("button", name="Withdraw", exact=True).first.click()


def audit(page: Page) -> None:
    page.get_by_role("button", name="Nobody owns this registration").first.click()
    page.get_by_role("complementary", name="Finding").wait_for()


def verified(page: Page) -> None:
    page.get_by_role("button", name="Verify the whole chain").click()
    page.get_by_text("entries, all in place").wait_for()


def keys(page: Page) -> None:
    page.get_by_role("table").first.wait_for()
    page.keyboard.press("?")
    page.get_by_role("dialog", name="Keys").wait_for()


def assigning(page: Page) -> None:
    page.get_by_label("only in").check()
    page.get_by_label("North quay", exact=False).first.wait_for()


def editing(page: Page) -> None:
    page.get_by_role("button", name="Change Dispatches").click()
    page.get_by_role("button", name="See whom it affects").click()
    page.get_by_role("heading", name="What would change").wait_for()
    page.get_by_role("button", name="Edit the collections").click()


def holders(page: Page) -> None:
    page.get_by_label("Operation that somebody can do").select_option("occupant.assign")
    page.get_by_label("To this berth").fill("north-12")
    page.keyboard.press("Tab")
    page.get_by_text("north-12 lies in").wait_for()


def trend(page: Page) -> None:
    page.get_by_role("button", name="trend").first.click()
    page.get_by_role("img", name=re.compile("^Excess of")).wait_for()


def year_ahead(page: Page) -> None:
    page.get_by_text("The year ahead").click()
    said = page.get_by_text("rotations in a year")
    expect(said).not_to_contain_text("other policy")
    page.get_by_label("Secret lifetime").fill("30")
    page.keyboard.press("Tab")
    expect(said).to_contain_text(re.compile(r"Under the other policy \d+"))
    page.get_by_role("img", name=re.compile("^Rotations by week: ")).wait_for()


def cut(page: Page) -> None:
    page.get_by_role("button", name=re.compile("owns Key renewal helper")).click()
    page.get_by_text("closed by that change").first.wait_for()


def starting(page: Page) -> None:
    page.get_by_role("button", name="Start a review").click()
    page.get_by_text(re.compile("It asks")).wait_for()


def carrying(page: Page) -> None:
    page.get_by_role("link", name="Personal data, this year").click()
    page.get_by_role("button", name="Close it now").click()
    page.get_by_role("button", name="Needed for less").first.click()


def cleaning(page: Page) -> None:
    page.get_by_role("checkbox", name="Choose Storm bell").check()
    page.get_by_role("button", name="Clean up 1").click()
    page.get_by_text("credentials that are not dead").wait_for()


def software(page: Page) -> None:
    page.get_by_text("Let software register clients by itself").click()
    page.get_by_label("Label").fill(unique("Field devices"))
    page.get_by_label("Lifetime in days").fill("2")
    page.get_by_role("button", name="Make a token").click()
    page.get_by_text("It is shown here once").wait_for()


PAGES: dict[str, tuple[str, str, Callable[[Page], None] | None]] = {
    "today": ("/", "Horizon", None),
    "clients": ("/clients", "Clients", lambda page: page.get_by_role("table").wait_for()),
    "clients, none match": (
        "/clients?q=nothing-like-it",
        "Clients",
        lambda page: page.get_by_text("No client matches").wait_for(),
    ),
    "register": ("/register", "Register a client", software),
    "dossier, everything open": ("/clients?q=Weather%20display", "Clients", dossier),
    "audit with a finding open": ("/audit?rule=no-owner&q=Radio%20bridge", "Audit", audit),
    "excess with a trend open": ("/audit/excess", "Excess", trend),
    "escalation paths with a cut chosen": ("/audit/escalation-paths", "Escalation", cut),
    "reviews, one to start": ("/reviews", "Reviews", starting),
    "a review about to be closed": ("/reviews", "Reviews", carrying),
    "rotation, the year ahead": ("/rotation", "Rotation", year_ahead),
    "consents, bounded": (
        "/audit/consents?which=bounded",
        "Consents",
        lambda page: page.get_by_role("table").wait_for(),
    ),
    "what was removed": ("/audit/removed", "Removed", lambda page: page.get_by_role("table").wait_for()),
    "clients to clean up": ("/clients?attention=disabled&q=Storm%20bell", "Clients", cleaning),
    "resources": (
        "/resources",
        "Resources",
        lambda page: page.get_by_role("region", name="Operations of Berths by permission").wait_for(),
    ),
    "consent desk": ("/desk", "Consent desk", None),
    "consent desk, decided": ("/desk?past", "Consent desk", lambda page: page.get_by_role("table").wait_for()),
    "rotation, with the steps of one": (
        "/rotation?within=90",
        "Rotation",
        lambda page: page.get_by_role("button", name=re.compile("^Steps for")).first.click(),
    ),
    "people, a role to assign": ("/people?open=assign:quay-hand", "People", assigning),
    "people, a group to change": ("/people?open=group:control-room", "People", None),
    "a resource to change": ("/resources/dispatches", "Resources", editing),
    "who can do this": ("/resources/berths", "Resources", holders),
    "directory with the ledger verified": ("/directory", "Quillhaven Port Authority", verified),
    "a device": ("/device#BCDFGHJK", "Let a device in", lambda page: page.get_by_role("alert").wait_for()),
    "the map of keys": ("/clients", "Clients", keys),
    "nowhere": ("/no/such/page", "Nothing is at this address", None),
    "a client that is not there": ("/clients/atlantis", "", lambda page: page.get_by_role("alert").wait_for()),
}


@pytest.mark.parametrize(("path", "heading", "prepare"), PAGES.values(), ids=PAGES.keys())
def test_axe_finds_nothing(open_console: Open, path: str, heading: str, prepare: Callable[[Page], None] | None) -> None:
    with open_console(path=path) as page:
        if heading:
            page.get_by_role("heading", name=heading).first.wait_for()
        if prepare:
            prepare(page)
        assert faults(page) == []


def test_axe_finds_nothing_on_the_sign_in_and_consent_pages(world: World, open_console: Open) -> None:
    with open_console(signed_in=False) as page:
        page.get_by_label("Login").fill("nobody@quillhaven.example")
        page.get_by_label("Password").fill("not the password")
        page.keyboard.press("Enter")
        expect(page.get_by_role("alert")).to_contain_text("do not match")
        assert faults(page) == []
    made = world.client(asked=["berths.manage"], secret=False)
    for role in ("approver", "auditor"):
        with open_console(role, path=f"/clients/{made.id}/consent") as page:
            page.get_by_role("heading", name="What becomes possible").wait_for()
            page.get_by_role("table").wait_for()
            assert faults(page) == []
    with open_console("lotte") as page:
        expect(page.get_by_role("alert")).to_contain_text("no role")
        assert faults(page) == []


def test_nothing_is_inline_and_the_policy_is_strict(open_console: Open) -> None:
    with open_console() as page:
        page.get_by_role("heading", name="Horizon").wait_for()
        answer = page.goto("/clients")
        assert answer is not None
        policy = answer.headers["content-security-policy"]
        assert "default-src 'none'" in policy
        assert "unsafe" not in policy
        assert "frame-ancestors 'none'" in policy
        page.get_by_role("table").wait_for()
        assert page.locator("style").count() == 0, "styles are adopted sheets: nothing is inline"
        assert page.locator("script:not([src])").count() == 0


def test_the_first_load_stays_small(world: World, open_console: Open) -> None:
    """Scripts and styles that the sign-in page and Today need, as they would travel compressed."""
    with open_console() as page:
        page.get_by_role("heading", name="Horizon").wait_for()
        names = page.evaluate("performance.getEntriesByType('resource').map((one) => one.name)")
    wanted = {name for name in names if re.search(r"/assets/.*\.(js|css)$", name)}
    assert len(wanted) > 3
    total = sum(len(gzip.compress(patient.get(name).content)) for name in wanted)
    assert total < FIRST_LOAD_BYTES, f"{total} bytes in {len(wanted)} files"


def test_lists_are_walked_by_keyboard(open_console: Open) -> None:
    with open_console(path="/clients?q=r") as page:
        page.get_by_role("table").wait_for()
        page.keyboard.press("j")
        page.keyboard.press("j")
        page.keyboard.press("k")
        first = page.get_by_role("table").get_by_role("link").first
        expect(first).to_be_focused()
        name = first.inner_text()
        page.keyboard.press("Enter")
        expect(page.get_by_role("heading", level=1)).to_have_text(name)
        expect(page.get_by_role("heading", level=1)).to_be_focused()
        page.keyboard.press("/")
        page.keyboard.type("radio")
        page.keyboard.press("Enter")
        expect(page.get_by_role("link", name="Radio bridge")).to_be_visible()
        page.keyboard.press("Tab")


def test_a_secret_that_turned_up_leads_to_its_client_and_stands_in_no_address(world: World, open_console: Open) -> None:
    made, asked = world.client(), []
    with open_console() as page:
        page.on("request", lambda request: asked.append(f"{request.url} {request.post_data or ''}"))
        page.get_by_label("Find anything").fill(made.secret)
        page.keyboard.press("Enter")
        page.wait_for_url(f"**/clients/{made.id}#credentials")
        page.get_by_label("Find anything").fill(made.secret[:12])
        page.keyboard.press("Enter")
        expect(page.get_by_role("link", name=made.name)).to_be_visible()
    assert made.secret not in " ".join(asked)


def test_filters_and_findings_live_in_the_address(open_console: Open) -> None:
    # A word that only clients of the demo have: what else this run registered fills no page.
    with open_console(path="/clients?q=duty") as page:
        expect(page.get_by_role("link", name="Duty mail digest")).to_be_visible()
        page.get_by_role("button", name="no owner").click()
        expect(page).to_have_url(re.compile("attention=ownerless"))
        expect(page.get_by_role("link", name="Duty mail digest")).to_have_count(0)
        page.get_by_role("button", name="Last use").click()
        expect(page).to_have_url(re.compile("sort=used"))
        page.reload()
        expect(page.get_by_role("link", name="Radio bridge")).to_be_visible()
        page.goto("/audit?severity=high&q=Radio%20bridge")
        page.get_by_role("button", name=re.compile("dispatches.manage, granted")).click()
        page.reload()
        expect(page.get_by_role("complementary", name="Finding")).to_contain_text("Radio bridge")


def test_a_session_that_ends_leads_back_to_the_same_place(world: World, open_console: Open) -> None:
    with open_console("auditor", path="/audit?severity=high") as page:
        page.get_by_role("heading", name="Audit").wait_for()
        # What the page still asks for would find the session gone, and lead to sign-in from here.
        page.wait_for_load_state("networkidle")
        with world.database() as database:
            database.execute("delete from console_session")
        page.get_by_role("link", name="Clients").click()
        # Whoever does not sign in over the page comes back to where they were going.
        page.get_by_role("dialog").get_by_role("button", name="Leave the page").click()
        page.get_by_label("Login").wait_for()
        person = world.person("auditor")
        page.get_by_label("Login").fill(person["login"])
        page.get_by_label("Password").fill(person["password"])
        page.get_by_role("button", name="Sign in").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Clients")


def test_the_sign_in_page_leads_only_to_our_own_pages(world: World, open_console: Open) -> None:
    person = world.person("auditor")
    with open_console(signed_in=False, path="/sign-in?then=//elsewhere.example/") as page:
        page.get_by_label("Login").fill(person["login"])
        page.get_by_label("Password").fill(person["password"])
        page.keyboard.press("Enter")
        page.get_by_role("heading", name="Horizon").wait_for()
        assert page.url == f"{world.base_url}/"


def test_who_is_known_in_two_directories_chooses_by_keyboard(world: World, open_console: Open) -> None:
    login, password = f"{unique('Twice').lower().replace(' ', '.')}@twice.example", "in two harbours at once"
    with world.database() as database:
        known = "select slug, domain from directory where slug in ('brisling', 'quillhaven-trial')"
        domains = dict(database.execute(known).fetchall())
        for slug in domains:
            with world.jamb("steward", slug) as steward:
                add_person(steward, login, "Known Twice", password)
        database.execute("update directory set domain = 'twice.example' where slug = any(%s)", [list(domains)])
        try:
            with open_console(signed_in=False, path="/sign-in") as page:
                page.get_by_label("Login").fill(login)
                page.get_by_label("Password").fill(password)
                page.keyboard.press("Enter")
                page.get_by_role("group", name="more than one directory").wait_for()
                assert faults(page) == []
                # The first is at hand at once.
                expect(page.get_by_role("button", name="Brisling Ferries")).to_be_focused()
                page.keyboard.press("Enter")
                page.get_by_text("Known Twice").first.wait_for()
                expect(page.locator("nav .slug")).to_have_text("brisling")
        finally:
            for slug, domain in domains.items():
                database.execute("update directory set domain = %s where slug = %s", [domain, slug])


def test_what_the_service_could_not_do_stands_on_the_directorys_page(world: World, open_console: Open) -> None:
    with world.database() as database:
        database.execute(
            "insert into failing_duty select id, 'evaluate what changed', 3, now() - interval '12 minutes', "
            "'ValueError; see the log', now() + interval '4 minutes' from directory where slug = 'quillhaven'"
        )
        try:
            with open_console("steward", path="/directory") as page:
                said = page.get_by_role("status").filter(has_text="evaluate what changed")
                expect(said).to_contain_text("failed 3 times in a row")
                expect(said).to_contain_text("ValueError; see the log")
                assert faults(page) == []
        finally:
            database.execute("delete from failing_duty")


def test_a_device_is_let_in_from_the_console(world: World, open_console: Open) -> None:
    started = DeviceSignIn.start(world.base_url, "quillhaven")
    started.interval_seconds = 0.05
    path = started.complete_address.removeprefix(world.base_url)
    with open_console("auditor", path=path) as page:
        page.get_by_role("heading", name="Jamb command line wants to act for you").wait_for()
        expect(page.get_by_text(started.user_code)).to_be_visible()
        assert faults(page) == []
        page.get_by_role("button", name="Yes, it is mine").click()
        page.get_by_text("The device may act for you").wait_for()
    token, _ = started.wait()
    assert token
    logs = (world.home / "service.log").read_text()
    assert started.user_code not in logs


def test_who_may_not_sees_why_instead_of_a_dead_button(world: World, open_console: Open) -> None:
    made = world.client(asked=["berths.view"], secret=False)
    with open_console("auditor", path=f"/clients/{made.id}") as page:
        page.get_by_role("heading", name="Ladder").wait_for()
        expect(page.get_by_text("A custodian or steward issues secrets")).to_be_visible()
        expect(page.get_by_role("button", name="Ask for a permission")).to_have_count(0)
        page.goto(f"/clients/{made.id}/consent")
        expect(page.get_by_text("Consent takes the role of an approver")).to_be_visible()
        expect(page.get_by_role("button", name=re.compile("^Grant"))).to_have_count(0)


def test_a_refused_registration_keeps_what_was_typed(open_console: Open) -> None:
    with open_console("registrar", path="/register") as page:
        page.get_by_label("Name", exact=True).fill("radio bridge")
        page.get_by_label("Purpose").fill("Typed with care")
        page.get_by_role("button", name="Register", exact=True).click()
        expect(page.get_by_role("alert")).to_contain_text("already has a client")
        expect(page.get_by_label("Purpose")).to_have_value("Typed with care")
        page.get_by_label("Name", exact=True).fill(unique("Radio bridge"))
        page.get_by_role("button", name="Register", exact=True).click()
        expect(page.get_by_text("What must it do?").first).to_be_visible()


def test_someone_elses_change_is_said_and_nothing_is_granted_twice(world: World, open_console: Open) -> None:
    made = world.client(asked=["berths.view"], secret=False)
    with open_console("approver", path=f"/clients/{made.id}/consent") as page:
        page.get_by_role("button", name=re.compile("^Grant 1 permission")).wait_for()
        with world.jamb("approver") as jamb:
            jamb.consent.grant(made.id)
        page.get_by_role("button", name=re.compile("^Grant 1 permission")).click()
        expect(page.get_by_role("heading", level=1)).to_contain_text("Nothing to decide")
        expect(page.get_by_role("alert")).to_be_visible()


def test_owners_are_changed_and_a_consent_is_ended_in_the_dossier(world: World, open_console: Open) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    with open_console("steward", path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name="change owners").click()
        page.get_by_role("button", name="Remove Oskar Pell").click()
        page.get_by_role("searchbox", name="Owners").fill("nowicki")
        page.get_by_role("button", name="+ Pia Nowicki").wait_for()
        page.keyboard.press("Enter")
        assert faults(page) == []
        page.get_by_role("button", name="Save owners").click()
        # The form has gone: what names her now is the registration.
        expect(page.get_by_role("button", name="change owners")).to_be_visible()
        expect(page.get_by_label("Registration")).to_contain_text("Pia Nowicki")
        page.get_by_role("button", name="berths.view").click()
        page.get_by_role("button", name="End this consent").click()
        assert faults(page) == []
        page.get_by_role("button", name="Cancel", exact=True).click()
        page.get_by_role("button", name="End this consent").click()
        page.get_by_role("button", name="End it").click()
        expect(page.locator("#ladder")).to_contain_text("waits for consent")
        expect(page.locator("#history")).to_contain_text("ended the consent to berths.view at berths")
