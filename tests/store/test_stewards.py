"""Somebody stays steward, whichever way the last one would be lost."""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import UTC, datetime
from uuid import uuid4

import pytest

from jamb.actions.base.act import Act, act_in
from jamb.actions.base.backend import Backend
from jamb.actions.directory import directories, groups, people, roles
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import StillInUse
from jamb.core.own_api import STEWARD
from jamb.core.reach import EVERYWHERE
from jamb.store.base.sealing import KEY_BYTES, Sealer
from jamb.store.base.work import Actor
from jamb.store.connections.engine import make_engine
from tests.world import World

NOW = datetime.now(UTC)
ACTOR = Actor("service", "s1", "Tester", "tests")


@pytest.fixture(scope="module")
def backend(world: World) -> Iterator[Backend]:
    engine = make_engine(world.cluster.url)
    yield Backend(engine, Sealer(os.urandom(KEY_BYTES), b""), world.base_url)
    engine.dispose()


def test_a_group_within_a_group_that_makes_the_only_steward_keeps_a_member(backend: Backend) -> None:
    slug = f"crew-{uuid4().hex[:8]}"
    place = directories.open_directory(backend, slug, "Crew", "crew.example", DirectoryPolicy(), ACTOR, NOW)
    ada, bob = (f"{name}-{slug}@crew.example" for name in ("ada", "bob"))
    people.add_person(Act(backend, place, ACTOR, NOW), ada, "Ada", [STEWARD])
    people.set_first_password(Act(backend, place, ACTOR, NOW), ada, "a long pass phrase")
    people.add_person(Act(backend, place, ACTOR, NOW), bob, "Bob", [])

    def save(name: str, members: list[str], inner: list[str]) -> None:
        groups.save_group(Act(backend, place, ACTOR, NOW), name, "", members, inner)

    save("watch", [ada], [])
    save("bridge", [], ["watch"])
    roles.assign_role(Act(backend, place, ACTOR, NOW), STEWARD, HolderKind.GROUP, ["bridge"], EVERYWHERE, None)
    roles.withdraw_role(Act(backend, place, ACTOR, NOW), STEWARD, HolderKind.PERSON, [ada])
    before = groups.list_groups(act_in(backend, slug, datetime.now(UTC)))
    for name, members, inner in (("watch", [], []), ("watch", [bob], []), ("bridge", [], [])):
        with pytest.raises(StillInUse, match="without a steward"):
            save(name, list(members), list(inner))
    assert groups.list_groups(act_in(backend, slug, datetime.now(UTC))) == before
    save("watch", [ada, bob], [])
