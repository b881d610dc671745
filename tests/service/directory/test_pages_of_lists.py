"""Every other list, a page at a time: in its order, each once, found by a word."""

from __future__ import annotations

import secrets
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import uuid4

import pytest
from psycopg.types.json import Jsonb

from tests.world import World

HERE = "/api/v1/directories/quillhaven"
MANY = 5


def groups(world: World, mark: str) -> list[str]:
    names = [f"{mark}-{n}" for n in range(MANY)]
    with world.jamb() as steward:
        for name in names:
            steward.groups.save(name, title=f"Those of {mark}", people=[], groups=[])
    return names


def resources(world: World, mark: str) -> list[str]:
    operation = {"name": "o", "title": "Do", "method": "GET", "path": "/", "effect": "read", "data_class": "open"}
    permission = {"name": "p", "title": "May", "kinds": ["application"], "unlocks": ["o"]}
    names = [f"{mark}-{n}" for n in range(MANY)]
    with world.session("steward") as http:
        for name in names:
            body = {"title": name, "identifier": f"https://{name}.example", "operations": [operation]}
            http.put(f"{HERE}/resources/{name}", json={**body, "permissions": [permission]}).raise_for_status()
    return names


def removals(world: World, mark: str) -> list[str]:
    removed = []
    with world.jamb() as steward:
        for n in range(MANY):
            made = steward.clients.register(f"Gone {mark} {n}", "To be removed", owners=[world.person(None)["login"]])
            steward.clients.disable(made.id, reason="Not needed")
            removed.append(steward.removals.remove(made.id, reason="Not needed").client_id)
    return removed[::-1]


def reviews(world: World, mark: str) -> list[str]:
    # Two began at the same moment: their ids tell them apart.
    begun = [datetime.now(UTC) - timedelta(days=400, hours=max(n, 1)) for n in range(MANY)]
    made = [(uuid4(), f"Review {mark} {n}", at) for n, at in enumerate(begun)]
    with world.database() as database:
        for key, name, at in made:
            database.execute(
                "insert into review (id, directory_id, name, scope, started_at, started_by, ends_at, closed_at, closed_by)"
                " select %s, id, %s, %s, %s, 'test', %s, %s, 'test' from directory where slug = 'quillhaven'",
                [key, name, Jsonb({"resource": "", "data": "open", "clients": []}), at, at, at],
            )
    return [str(key) for key, _, _ in sorted(made, key=lambda one: (one[2], str(one[0])), reverse=True)]


def notices(world: World, mark: str) -> list[str]:
    at = datetime.now(UTC) - timedelta(days=400)
    made = sorted(str(uuid4()) for _ in range(MANY))
    with world.database() as database:
        for key in made:
            database.execute(
                "insert into notice (id, directory_id, person_id, key, kind, client_id, words, path, urgent, at)"
                " select %s, directory.id, person.id, %s, 'request-waits', '', %s, '/', false, %s from person"
                " join directory on directory.id = directory_id where slug = 'quillhaven' and login = %s",
                [key, key, f"Told of {mark}", at, world.person("auditor")["login"]],
            )
    return made[::-1]


LISTS: dict[str, tuple[Callable[[World, str], list[str]], str]] = {
    "groups": (groups, "name"),
    "resources": (resources, "name"),
    "removals": (removals, "client_id"),
    "reviews": (reviews, "id"),
    "notices": (notices, "id"),
}


def pages(world: World, path: str, **params: Any) -> tuple[list[dict[str, Any]], set[int | None]]:
    """Return all items of a list, read two at a time, and the totals that were told."""
    found: list[dict[str, Any]] = []
    totals: set[int | None] = set()
    with world.session("auditor") as http:
        address, sent = f"{HERE}/{path}", {**params, "limit": 2}
        while True:
            answer = http.get(address, params=sent).raise_for_status()
            body = answer.json()
            assert len(body["items"]) <= 2
            found += body["items"]
            totals.add(body["total"])
            if body["next"] is None:
                assert "Link" not in answer.headers
                return found, totals
            # The link leads to the same page as the cursor (RFC 8288).
            onward = answer.headers["Link"].split(">")[0].removeprefix("<")
            assert http.get(onward).json() == http.get(address, params={**sent, "cursor": body["next"]}).json()
            sent["cursor"] = body["next"]


@pytest.mark.parametrize("path", LISTS)
def test_a_list_comes_page_by_page_each_once_in_order(world: World, path: str) -> None:
    make, key = LISTS[path]
    mark = f"paged-{secrets.token_hex(4)}"
    made = make(world, mark)
    found, totals = pages(world, path, q=mark.upper())
    assert [one[key] for one in found] == made
    assert totals == ({None} if path == "notices" else {MANY})
    assert pages(world, path, q=f"{mark}%")[0] == [], "no sign of a search's own means anything"


@pytest.mark.parametrize("path", LISTS)
@pytest.mark.parametrize("cursor", ["WyJhIiwiYiJd", "WzFd", "eyJhIjoxfQ", "nothing", "WyIyMDI2LTAxLTAxIiwiYSJd"])
def test_a_cursor_of_no_page_is_refused(world: World, path: str, cursor: str) -> None:
    with world.session("auditor") as http:
        answer = http.get(f"{HERE}/{path}", params={"cursor": cursor})
    assert answer.status_code == 404
    assert answer.json()["fields"][0]["field"] == "cursor"
