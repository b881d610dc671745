"""Who can do an operation, a page at a time: pages of any length together say what all of it at once says."""

from __future__ import annotations

import random
from datetime import timedelta
from itertools import pairwise
from uuid import uuid4

import pytest
from sqlmodel import Session

from jamb.actions.resources.holders import Holders, read_holders
from jamb.actions.resources.resources import publish, replace_collections
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE, Collection, CollectionTree, Reach
from jamb.core.reach.details import document
from jamb.store.clients.clients import GrantRow
from jamb.store.resources import resources
from jamb.wire.resources.access import ClientHolder
from tests.actions.scene import NOW, Scene
from tests.core.build import operation, permission

PIER = Catalogue.of(
    "pier",
    "Pier",
    "https://pier.alder.example",
    [operation("berths"), operation("berth", "/berths/{berth}")],
    [permission("pier.read", "berths berth"), permission("pier.look", "berth"), permission("pier.list", "berths")],
    object_name="berth",
)
TREE = CollectionTree.of([Collection(name, name, frozenset({f"{name}-1"})) for name in ("north", "south")])
# Names that sort otherwise by most locales, and one that is the beginning of another.
NAMES = ["Zander", "anchor", "Älv", "Buoy", "Buoy 2", "buoy3", "Éole", "Quay"]
REACHES = [EVERYWHERE, Reach.only("north"), Reach.only("south"), Reach.only("north", "south")]
# A permission is consented to once in each of these ways.
WAYS = [
    (name, kind, person)
    for name in PIER.permissions
    for kind, person in ((AccessKind.APPLICATION, ""), (AccessKind.DELEGATED, ""), (AccessKind.DELEGATED, "tom"))
]
DAY = timedelta(days=1)


@pytest.fixture
def drawn(scene: Scene) -> list[GrantRow]:
    publish(scene.act(), PIER)
    replace_collections(scene.act(), "pier", TREE)
    dice, made = random.Random(7), []
    with Session(scene.backend.engine, expire_on_commit=False) as session:
        place = resources.by_name(session, scene.act().directory.id, "pier")
        for name in NAMES:
            client = scene.client(name)
            for permission_name, kind, person in dice.sample(WAYS, dice.randint(0, 4)):
                made.append(
                    GrantRow(
                        id=uuid4(),
                        client_id=client.id,
                        resource_id=place.id,
                        permission=permission_name,
                        kind=kind.value,
                        granted_at=NOW - dice.choice((1, 2, -1)) * DAY,
                        granted_by="a test",
                        expires_at=dice.choice((None, None, NOW - DAY / 2, NOW + DAY)),
                        reach=document(dice.choice(REACHES)) or None,
                        person_id=scene.people[person].id if person else None,
                    )
                )
        session.add_all(made)
        session.commit()
    return made


def pages(scene: Scene, operation: str, object_name: str | None, limit: int) -> list[Holders]:
    found = [read_holders(scene.act(), "pier", operation, object_name, None, limit)]
    while (after := found[-1].after) is not None:
        found.append(read_holders(scene.act(), "pier", operation, object_name, after, limit))
    return found


def expected(drawn: list[GrantRow], operation: str, object_name: str | None) -> list[tuple[str, str]]:
    """The client and permission of each consent that would do, judged one by one."""
    openers = PIER.unlockers(operation)
    collections = frozenset({object_name.split("-")[0]}) if object_name and operation == "berth" else None
    return sorted(
        (row.client_id, row.permission)
        for row in drawn
        if row.permission in openers
        and row.granted_at <= NOW
        and (row.expires_at is None or row.expires_at > NOW)
        and (collections is None or row.held().reach.contains(collections))
    )


@pytest.mark.parametrize(("operation", "object_name"), [("berths", None), ("berth", None), ("berth", "north-1")])
def test_pages_together_are_all_that_there_is(
    scene: Scene, drawn: list[GrantRow], operation: str, object_name: str | None
) -> None:
    wanted = expected(drawn, operation, object_name)
    assert len(wanted) > 3
    (whole,) = pages(scene, operation, object_name, 500)
    told = [one for one in whole.clients if not one.through]
    assert sorted((one.client_id, one.permission) for one in told) == wanted
    assert [one.client_name for one in whole.clients] == sorted(one.client_name for one in whole.clients)
    for limit in (1, 2, 3, 7):
        found = pages(scene, operation, object_name, limit)
        assert [one for page in found for one in page.clients] == list(whole.clients), f"pages of {limit}"
        assert {page.clients_in_all for page in found} == {len(whole.clients)}
        assert all(page.clients for page in found), "a page of nothing"
        assert all(names(one.clients).isdisjoint(names(next_one.clients)) for one, next_one in pairwise(found))


def names(holders: tuple[ClientHolder, ...]) -> set[str]:
    return {one.client_id for one in holders}
