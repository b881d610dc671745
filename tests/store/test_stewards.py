"""Somebody stays steward, whichever way the last one would be lost."""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import UTC, datetime
from uuid import uuid4

import pytest

from jamb.actions import directories, groups, people, roles
from jamb.actions.premises import Premises
from jamb.core.errors import StillInUse
from jamb.core.own_api import STEWARD
from jamb.core.policy import DirectoryPolicy
from jamb.core.reach import EVERYWHERE
from jamb.core.roles import HolderKind
from jamb.store.engine import make_engine
from jamb.store.sealing import KEY_BYTES, Sealer
from jamb.store.work import Actor
from tests.world import World

NOW = datetime.now(UTC)
ACTOR = Actor("service", "s1", "Tester", "tests")


@pytest.fixture(scope="module")
def premises(world: World) -> Iterator[Premises]:
    engine = make_engine(world.cluster.url)
    yield Premises(engine, Sealer(os.urandom(KEY_BYTES)), "http://test.example")
    engine.dispose()


def test_a_group_within_a_group_that_makes_the_only_steward_keeps_a_member(premises: Premises) -> None:
    slug = f"crew-{uuid4().hex[:8]}"
    place = directories.open_directory(premises, slug, "Crew", "crew.example", DirectoryPolicy(), ACTOR, NOW)
    ada, bob = (f"{name}-{slug}@crew.example" for name in ("ada", "bob"))
    people.add_person(premises, place, ada, "Ada", "a long pass phrase", [STEWARD], ACTOR, NOW)
    people.add_person(premises, place, bob, "Bob", None, [], ACTOR, NOW)

    def save(name: str, members: list[str], inner: list[str]) -> None:
        groups.save_group(premises, place, name, "", members, inner, ACTOR, NOW)

    save("watch", [ada], [])
    save("bridge", [], ["watch"])
    roles.assign_role(premises, place, STEWARD, HolderKind.GROUP, ["bridge"], EVERYWHERE, None, ACTOR, NOW)
    roles.withdraw_role(premises, place, STEWARD, HolderKind.PERSON, [ada], ACTOR, NOW)
    before = groups.list_groups(premises, slug)
    for name, members, inner in (("watch", [], []), ("watch", [bob], []), ("bridge", [], [])):
        with pytest.raises(StillInUse, match="without a steward"):
            save(name, list(members), list(inner))
    assert groups.list_groups(premises, slug) == before
    save("watch", [ada, bob], [])
