"""What the demo does not show: very long names, forty owners, three hundred permissions, nothing at all, and failures."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

import pytest
from playwright.sync_api import Page, Route, expect

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.directory import people
from jamb.actions.directory.directories import read_directory
from jamb.actions.resources import resources
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.service.config.sealing import sealer_for
from jamb.service.config.settings import Settings
from jamb.store.base.work import Actor
from jamb.store.connections.engine import make_engine
from tests.console.browser import Open, faults
from tests.world import World, unique

ACTOR = Actor("service", "tests", "Tests", "Tests")


@pytest.fixture(scope="module")
def backend(world: World) -> Iterator[Backend]:
    engine = make_engine(world.cluster.url)
    sealer = sealer_for(Settings(home=world.home), engine, datetime.now(UTC))
    yield Backend(engine, sealer, world.base_url)
    engine.dispose()


@pytest.fixture(scope="module")
def extreme(world: World, backend: Backend) -> str:
    """A client with the longest name, forty owners, and a resource of three hundred permissions half of them asked."""
    now, port = datetime.now(UTC), read_directory(backend, "quillhaven")
    name = unique("huge").replace(" ", "-")
    owners = [
        people.add_person(
            Act(backend, port, ACTOR, now),
            f"{name}-{number}@quillhaven.example",
            f"Owner Number {number} of the Long List",
            [],
        ).login
        for number in range(40)
    ]
    operations = [
        Operation(
            f"operation-{number:03}",
            f"Do the thing of number {number}",
            "GET",
            f"/things/{number}/of/a/rather/long/path/{{thing}}",
            Effect.READ,
            DataClass.RESTRICTED,
        )
        for number in range(300)
    ]
    permissions = [
        Permission(
            f"permission-with-a-long-name-{number:03}",
            f"May do the thing of number {number}",
            frozenset({AccessKind.APPLICATION}),
            frozenset({f"operation-{number:03}"}),
        )
        for number in range(300)
    ]
    identifier = f"https://{name}.quillhaven.example/with/a/rather/long/path/in/its/identifier"
    resources.publish(
        Act(backend, port, ACTOR, now), Catalogue.of(name, "A huge API", identifier, operations, permissions)
    )
    with world.jamb() as jamb:
        made = jamb.clients.register(unique("W" * 70)[:80], "m" * 500, owners=owners)
        jamb.asks.add(made.id, name, [one.name for one in permissions[:90]], reason="r" * 500)
        jamb.secrets.issue(made.id)
    return made.id


def overflow(page: Page) -> int:
    """Return by how many pixels the page is wider than its window."""
    return page.evaluate("document.documentElement.scrollWidth - document.documentElement.clientWidth")


def test_the_largest_client_fits_every_page(open_console: Open, extreme: str) -> None:
    places = {
        "/clients?q=WWWW": lambda page: page.get_by_role("table").wait_for(),
        f"/clients/{extreme}": lambda page: page.get_by_role("heading", name="Ladder").wait_for(),
        f"/clients/{extreme}/consent": lambda page: page.get_by_role(
            "heading", name="What becomes possible"
        ).wait_for(),
        f"/register/{extreme}": lambda page: page.get_by_text("What must it do?").first.wait_for(),
        "/": lambda page: page.get_by_role("heading", name="Horizon").wait_for(),
        "/audit?by=client": lambda page: page.get_by_role("heading", name="Audit").wait_for(),
        "/resources": lambda page: page.get_by_role("heading", name="Permissions").wait_for(),
        "/directory": lambda page: page.get_by_role("heading", name="Ledger").wait_for(),
    }
    with open_console("steward") as page:
        for path, ready in places.items():
            page.goto(path)
            ready(page)
            page.wait_for_load_state("networkidle")
            assert overflow(page) <= 0, path


def test_three_hundred_permissions_can_be_chosen_from(open_console: Open, extreme: str) -> None:
    with open_console("steward", path=f"/clients/{extreme}") as page:
        page.get_by_role("heading", name="Ladder").wait_for()
        page.get_by_role("button", name="Ask for a permission").click()
        huge = page.get_by_label("Resource", exact=True).locator("option", has_text="A huge API").get_attribute("value")
        page.get_by_label("Resource", exact=True).select_option(huge)
        page.get_by_label("Find an operation or permission").fill("299")
        expect(page.get_by_role("checkbox", name="Do the thing of number 298", exact=True)).to_have_count(0)
        page.get_by_role("checkbox", name="Do the thing of number 299", exact=True).check()
        expect(page.get_by_role("checkbox", name="permission-with-a-long-name-299")).to_be_checked()
        page.get_by_label("Find an operation or permission").fill("name-000")
        expect(page.get_by_role("checkbox", name="permission-with-a-long-name-000")).to_be_disabled()
        page.get_by_role("button", name="Ask for permission-with-a-long-name-299").click()
        expect(page.get_by_role("button", name="permission-with-a-long-name-299")).to_be_visible()
        assert faults(page) == []


def test_a_directory_of_one_client_and_a_client_of_nothing(open_console: Open, world: World) -> None:
    with world.jamb("steward", "brisling") as jamb:
        (only,) = jamb.clients.list()
    with open_console("steward", directory="brisling") as page:
        expect(page.get_by_text("0 clients wait")).to_be_visible()
        expect(page.get_by_text("Nothing waits.")).to_be_visible()
        expect(page.get_by_text("no credential expires within a year")).to_be_visible()
        expect(page.get_by_text("Too early to say")).to_be_visible()
        assert faults(page) == []
        page.goto(f"/clients/{only.id}")
        expect(page.get_by_text("It asks for nothing yet")).to_be_visible()
        expect(page.get_by_text("so it cannot fetch a token")).to_be_visible()
        expect(page.get_by_text("No token request is on record")).to_be_visible()
        assert faults(page) == []
    world.open_directory("empty")
    with open_console("steward", directory="empty", path="/clients") as page:
        expect(page.get_by_text("No client is registered here yet")).to_be_visible()
        page.goto("/audit")
        expect(page.get_by_text("The audit finds nothing wrong")).to_be_visible()
        assert faults(page) == []


def away(route: Route) -> None:
    route.fulfill(
        status=503,
        content_type="application/problem+json",
        body='{"type":"urn:jamb:problem:store-unavailable","title":"x","status":503,'
        '"detail":"The database does not answer. Nothing was changed.","next_step":"Try again in a few seconds.","fields":[]}',
    )


def test_a_failure_says_what_to_do_and_trying_again_resolves_it(open_console: Open) -> None:
    with open_console(path="/clients") as page:
        page.get_by_role("table").wait_for()
        page.route("**/quillhaven/audit", away)
        page.get_by_role("link", name="Audit").click()
        expect(page.get_by_role("alert")).to_contain_text("The database does not answer", timeout=20_000)
        expect(page.get_by_role("alert")).to_contain_text("Try again in a few seconds.")
        page.unroute("**/quillhaven/audit")
        page.get_by_role("button", name="Try again").click()
        expect(page.get_by_role("alert")).to_have_count(0)
        expect(page.get_by_role("heading", name="Audit")).to_contain_text("findings")
        page.route("**/ledger/verification", lambda route: route.abort())
        page.get_by_role("link", name="Directory").click()
        page.get_by_role("button", name="Verify the whole chain").click()
        expect(page.get_by_role("alert")).to_contain_text("does not answer")


def test_old_rows_stay_while_new_ones_are_fetched(open_console: Open) -> None:
    with open_console(path="/clients") as page:
        page.get_by_role("table").wait_for()
        before = page.get_by_role("row").count()
        held: list[Route] = []

        def hold(route: Route) -> None:
            held.append(route)

        page.route(re.compile("/clients\\?.*attention"), hold)
        page.get_by_role("button", name="no owner").click()
        page.wait_for_timeout(300)
        assert page.get_by_role("row").count() == before
        assert held
        held[0].continue_()
        expect(page.get_by_role("link", name="Berth board", exact=True)).to_have_count(0)


def test_nothing_jumps_when_data_arrives(open_console: Open) -> None:
    """Layout shift as browsers measure it: below 0.1 counts as good; ours is a fraction of that, with a late font too."""
    watch = """() => { window.shifts = 0; new PerformanceObserver((list) => {
        for (const entry of list.getEntries()) if (!entry.hadRecentInput) window.shifts += entry.value;
    }).observe({type: 'layout-shift', buffered: true}); }"""
    held: list[Route] = []

    def hold(route: Route) -> None:
        held.append(route)

    for path in ("/", "/clients", "/audit", "/directory"):
        with open_console(path=path) as page:
            page.evaluate(watch)
            page.get_by_role("heading", level=1).wait_for()
            page.wait_for_load_state("networkidle")
            page.wait_for_timeout(200)
            assert page.evaluate("window.shifts") < 0.05, path
            held.clear()
            page.context.new_cdp_session(page).send("Network.setCacheDisabled", {"cacheDisabled": True})
            page.route("**/*.woff2", hold)
            page.reload(wait_until="commit")
            page.evaluate(watch)
            page.get_by_role("heading", level=1).wait_for()
            page.wait_for_timeout(500)
            assert held
            for font in held:
                font.continue_()
            page.wait_for_load_state("networkidle")
            page.wait_for_timeout(200)
            shift: Any = page.evaluate("window.shifts")
            assert shift < 0.05, (path, shift)


def test_a_change_elsewhere_is_seen_on_coming_back(world: World, open_console: Open) -> None:
    made = world.client(asked=["berths.view"], secret=False)
    with open_console("steward", path=f"/clients/{made.id}") as page:
        expect(page.locator("#ladder")).to_contain_text("waits for consent")
        with world.jamb("approver") as jamb:
            jamb.consent.grant(made.id)
        page.get_by_role("link", name="Audit").click()
        page.get_by_role("heading", name="Audit").wait_for()
        page.wait_for_timeout(5200)
        page.go_back()
        expect(page.locator("#ladder")).not_to_contain_text("waits for consent")
