"""The list of clients against a slow, obvious reference: filter, order and cursors over a random estate."""

from __future__ import annotations

import os
import random
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from uuid import uuid4

import pytest
from sqlmodel import Session

from jamb.actions.base.act import THE_SERVICE, Act
from jamb.actions.base.backend import Backend
from jamb.actions.clients import clients as client_actions
from jamb.actions.clients import dossier as dossier_actions
from jamb.actions.directory import directories, people
from jamb.actions.resources import resources
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.lists import Attention, ClientSort
from jamb.demo.scenario import BERTHS
from jamb.store.base.sealing import KEY_BYTES, Sealer
from jamb.store.base.work import Actor
from jamb.store.clients import clients
from jamb.store.connections.engine import make_engine
from jamb.store.credentials import credentials
from jamb.store.resources.resources import ResourceRow, resources_of
from jamb.wire.clients.clients import Client
from tests.world import World

NOW = datetime.now(UTC)
ACTOR = Actor("person", "p1", "Tester", "tests")
NAMES = ("Berth", "berth", "Crane", "Öl", "ärger", "100% sure", "under_score", "Zulu", "alpha", "back\\slash")


@pytest.fixture(scope="module")
def backend(world: World) -> Iterator[Backend]:
    engine = make_engine(world.cluster.url)
    yield Backend(engine, Sealer(os.urandom(KEY_BYTES), b""), world.base_url)
    engine.dispose()


@pytest.fixture(scope="module")
def estate(backend: Backend) -> Directory:
    """A hundred clients with random owners, asks, grants and secrets."""
    dice = random.Random(7)
    place = directories.open_directory(
        backend, f"lists-{uuid4().hex[:8]}", "Lists", "lists.example", DirectoryPolicy(), ACTOR, NOW
    )
    resources.publish(Act(backend, place, ACTOR, NOW), BERTHS)
    owner = people.add_person(Act(backend, place, ACTOR, NOW), f"{uuid4().hex}@lists.example", "Owner", [])
    berths = next(row for row in _resources(backend, place) if row.name == "berths")
    with Session(backend.engine) as session:
        for number in range(100):
            name = f"{dice.choice(NAMES)} {number:02}"
            row = clients.ClientRow(
                id=uuid4().hex[:20],
                directory_id=place.id,
                name=name,
                folded_name=name.casefold(),
                purpose=dice.choice(("moves ships", "counts 50% of them", "sleeps")),
                kind="service",
                state="live",
                registered_at=NOW - timedelta(hours=dice.randrange(500)),
                registered_by="Tester",
            )
            session.add(row)
            session.flush()
            if dice.random() < 0.7:
                session.add(clients.ClientOwnerRow(client_id=row.id, person_id=owner.id))
            for permission in dice.sample(sorted(BERTHS.permissions), dice.randrange(3)):
                session.add(
                    clients.AskRow(
                        id=uuid4(),
                        client_id=row.id,
                        resource_id=berths.id,
                        permission=permission,
                        kind="application",
                        reason="",
                        asked_at=NOW,
                        asked_by="x",
                    )
                )
                if dice.random() < 0.6:
                    session.add(
                        clients.GrantRow(
                            id=uuid4(),
                            client_id=row.id,
                            resource_id=berths.id,
                            permission=permission,
                            kind="application",
                            granted_at=NOW - timedelta(hours=2),
                            granted_by="x",
                            expires_at=NOW - timedelta(hours=1) if dice.random() < 0.3 else None,
                        )
                    )
            for _ in range(dice.randrange(3)):
                ends = dice.choice((None, -20, -1, 3, 13, 15, 90))
                session.add(
                    credentials.CredentialRow(
                        id=uuid4(),
                        client_id=row.id,
                        directory_id=row.directory_id,
                        kind="secret",
                        hint="h",
                        digest=os.urandom(32),
                        issued_at=NOW,
                        issued_by="x",
                        expires_at=None if ends is None else NOW + timedelta(days=ends),
                        withdrawn_at=NOW if dice.random() < 0.2 else None,
                        disabled_at=NOW if dice.random() < 0.2 else None,
                        starts_at=NOW + timedelta(days=1) if dice.random() < 0.2 else None,
                        last_used_at=NOW - timedelta(days=dice.randrange(40)) if dice.random() < 0.5 else None,
                    )
                )
        session.commit()
    return place


def _resources(backend: Backend, place: Directory) -> list[ResourceRow]:
    with Session(backend.engine) as session:
        return resources_of(session, place.id)


def listed(backend: Backend, place: Directory, limit: int, **wanted: object) -> list[Client]:
    """Walk all pages of a list."""
    found: list[Client] = []
    after = None
    while True:
        page, after, total = client_actions.list_clients(
            Act(backend, place, THE_SERVICE, NOW),
            after=after,
            limit=limit,
            **wanted,  # type: ignore[arg-type]
        )
        found += page
        if after is None:
            assert total == len(found)
            return found


@pytest.mark.parametrize("limit", [1, 7, 100])
@pytest.mark.parametrize("sort", ClientSort)
def test_pages_of_any_size_are_the_whole_list_in_order(
    backend: Backend, estate: Directory, sort: ClientSort, limit: int
) -> None:
    found = listed(backend, estate, limit, sort=sort)
    assert len({one.id for one in found}) == len(found) == 100
    far, never = datetime(9999, 1, 1, tzinfo=UTC), datetime(1, 1, 2, tzinfo=UTC)
    keys = {
        ClientSort.NAME: lambda one: one.name.casefold().encode(),
        ClientSort.REGISTERED: lambda one: one.registered_at,
        ClientSort.EXPIRY: lambda one: one.next_expiry or far,
        ClientSort.USED: lambda one: one.last_used_at or never,
    }
    assert [one.id for one in found] == [one.id for one in sorted(found, key=lambda one: (keys[sort](one), one.id))]


def test_each_filter_is_what_the_dossiers_say(backend: Backend, estate: Directory) -> None:
    everyone = listed(backend, estate, 100)
    dossiers = {
        one.id: dossier_actions.read_dossier(Act(backend, estate, THE_SERVICE, NOW), one.id) for one in everyone
    }
    states = {key: {held.state for held in dossier.credentials} for key, dossier in dossiers.items()}
    expected = {
        Attention.WAITING: {key for key, one in dossiers.items() if one.client.ladder.waiting},
        Attention.EXPIRING: {key for key, found in states.items() if "expiring" in found},
        Attention.EXPIRED_CREDENTIAL: {key for key, found in states.items() if "expired" in found},
        Attention.OWNERLESS: {key for key, one in dossiers.items() if not one.client.owners},
    }
    for attention, wanted in expected.items():
        assert 0 < len(wanted) < 100, attention
        assert {one.id for one in listed(backend, estate, 9, attention=attention)} == wanted, attention


@pytest.mark.parametrize("query", ["berth", "BERTH", "100%", "%", "_", "under_", "\\", "ships", "öl", "zzz", "50%"])
def test_a_search_finds_the_text_and_nothing_is_a_wildcard(backend: Backend, estate: Directory, query: str) -> None:
    everyone = listed(backend, estate, 100)
    wanted = {one.id for one in everyone if query.lower() in one.name.lower() or query.lower() in one.purpose.lower()}
    assert {one.id for one in listed(backend, estate, 11, query=query)} == wanted
