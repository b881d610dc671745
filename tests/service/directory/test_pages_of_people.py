"""People, and who holds a role, a page at a time: in order, each once, found by a word, and how many there are."""

from __future__ import annotations

import secrets

import pytest

from jamb.actions.directory.roles import HOLDERS_SHOWN
from jamb.client import NotFound
from jamb.core.directory.roles import HolderKind
from jamb.wire.directory.roles import RoleSent
from tests.console.browser import Open
from tests.world import World

HERE = "/api/v1/directories/quillhaven"
# Across the border of a page, and more than a role shows of its holders.
MANY = HOLDERS_SHOWN + 5


@pytest.fixture(scope="module")
def crew(world: World) -> str:
    """Many people whose names begin alike, one of them twice; return how."""
    name = f"Deckhand {secrets.token_hex(3)}"
    logins = [f"{name.lower().replace(' ', '.')}.{n}@quillhaven.example" for n in range(MANY)]
    rows = [f"{login},{name} {min(n, MANY - 2):03}" for n, login in enumerate(logins)]
    role = name.lower().replace(" ", "-")
    with world.jamb("steward") as steward:
        steward.people.load("\n".join(["login,name", *rows]))
        steward.roles.save(role, RoleSent(title=name, resource="tides", permissions=["readings.view"]))
        steward.roles.assign(role, HolderKind.PERSON, logins)
        steward.people.change(logins[0], active=False)
    return name


def test_people_come_page_by_page_each_once_in_order(world: World, crew: str) -> None:
    with world.session("auditor") as http:
        found, cursor = [], None
        while True:
            page = http.get(f"{HERE}/people", params={"q": crew, "limit": 9, **({"cursor": cursor} if cursor else {})})
            body = page.raise_for_status().json()
            assert body["total"] == MANY
            found += [(one["name"], one["id"]) for one in body["items"]]
            cursor = body["next"]
            assert ('rel="next"' in page.headers.get("Link", "")) == bool(cursor)
            if not cursor:
                break
        assert len(set(found)) == MANY
        assert found == sorted(found)
        assert http.get(f"{HERE}/people", params={"cursor": "WyJhIiwiYiJd"}).status_code == 404


def test_people_are_found_by_a_word_and_by_whether_they_may_act(world: World, crew: str) -> None:
    with world.jamb("auditor") as auditor:
        assert len(list(auditor.people.list(q=crew.upper()))) == MANY
        assert [one.name for one in auditor.people.list(q=crew, active=False)] == [f"{crew} 000"]
        assert len(list(auditor.people.list(q=crew, active=True))) == MANY - 1
        assert list(auditor.people.list(q="100%")) == [], "no sign of a search's own means anything"


def test_a_page_of_the_longest_names_leads_to_the_next(world: World) -> None:
    """Names of signs that take four bytes each: what leads on is no longer than is taken."""
    mark = secrets.token_hex(5)
    name = "𝔏" * 110 + mark
    rows = [f"{secrets.token_hex(6)}@quillhaven.example,{name}" for _ in range(2)]
    with world.session("steward") as http:
        added = http.post(f"{HERE}/people/import", json={"csv": "\n".join(["login,name", *rows])})
        added.raise_for_status()
        first = http.get(f"{HERE}/people", params={"q": mark, "limit": 1}).raise_for_status().json()
        rest = http.get(f"{HERE}/people", params={"q": mark, "limit": 1, "cursor": first["next"]})
        assert [one["name"] for one in rest.raise_for_status().json()["items"]] == [name]


def test_a_role_shows_the_first_of_its_holders_and_all_on_their_own_page(world: World, crew: str) -> None:
    role = crew.lower().replace(" ", "-")
    with world.jamb("steward") as steward:
        (shown,) = [one for one in steward.roles.list() if one.name == role]
        every = list(steward.roles.holders(role))
        assert (len(shown.holders), shown.holders_in_all, len(every)) == (HOLDERS_SHOWN, MANY, MANY)
        assert [one.id for one in every[:HOLDERS_SHOWN]] == [one.id for one in shown.holders]
        assert [one.name for one in steward.roles.holders(role, q=f"{crew} 007")] == [f"{crew} 007"]
        assert {one.kind for one in steward.roles.holders("quay-hand")} >= {HolderKind.GROUP, HolderKind.CLIENT}
        with pytest.raises(NotFound):
            list(steward.roles.holders("no-such-role"))


def test_the_console_opens_the_holders_that_are_not_shown(crew: str, open_console: Open) -> None:
    role = crew.lower().replace(" ", "-")
    with open_console("steward", path=f"/people?role={role}") as page:
        row = page.get_by_role("row").filter(has_text=crew).filter(has=page.get_by_role("button", name="assign"))
        row.get_by_role("button", name="more").click()
        row.get_by_text(f"{crew} {MANY - 2:03}").first.wait_for()
        assert row.get_by_role("button", name="Withdraw").count() == MANY


def test_who_may_not_read_roles_does_not_read_who_holds_them(world: World, crew: str) -> None:
    with world.session(None) as http:
        refused = http.get(f"{HERE}/roles/{crew.lower().replace(' ', '-')}/holders")
        assert refused.status_code == 403
