"""A round of notices looks at what is new alone, and leaves nothing untold that stands."""

from __future__ import annotations

from datetime import datetime, timedelta
from uuid import UUID

import pytest
from sqlmodel import Session, select

from jamb.actions.base.lookups import find_directory
from jamb.actions.clients import registrations
from jamb.actions.consent import asks, requests
from jamb.actions.credentials import rotations
from jamb.actions.credentials.adding import SecretIssued, add_credential
from jamb.actions.credentials.opening import open_rotation
from jamb.actions.notices import notices, rounds
from jamb.actions.resources.resources import publish
from jamb.core.consent.requests import RequestEvent
from jamb.core.notices import NoticeKind
from jamb.core.permissions import AccessKind
from jamb.store.directory.people import PersonRow
from jamb.store.notices.notices import NoticeRow
from tests.actions.rounds.walk import Walk
from tests.actions.scene import QUAY, Scene


def untold(scene: Scene, now: datetime) -> set[tuple[UUID, str]]:
    """What a look at all that stands finds for people who were not told of it."""
    with Session(scene.backend.engine) as session:
        directory = find_directory(session, "alder")
        facts = notices.gather(session, directory, rounds.all_that_stands(now), now)
        due = {(person, fact.key) for person, fact in notices.addressed(session, directory, facts, now)}
        return due - set(session.exec(select(NoticeRow.person_id, NoticeRow.key)))


@pytest.mark.parametrize("seed", range(2))
def test_what_is_new_is_all_that_there_is_to_tell(scene: Scene, seed: int, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(rounds, "WHOLE_EVERY", timedelta(days=10_000))
    walk = Walk(scene, seed)
    notices.tell(scene.backend, "alder", walk.now)
    for _ in range(60):
        walk.step()
        notices.tell(scene.backend, "alder", walk.now)
        assert untold(scene, walk.now) == set(), f"after {walk.at}"
    with Session(scene.backend.engine) as session:
        kinds = set(session.exec(select(NoticeRow.kind)))
    assert kinds >= {NoticeKind.ENDS_SOON, NoticeKind.ROTATION_OVERDUE, NoticeKind.REQUEST_WAITS}


def test_who_becomes_an_owner_hears_in_the_next_round_what_happened_lately(scene: Scene) -> None:
    publish(scene.act(), QUAY)
    client = scene.client("Board", "tom").id
    old = add_credential(scene.act(), client, SecretIssued(days=30), "host").credential.id
    rotation = open_rotation(scene.act(), client, old, None, 30, 9).rotation.id
    rotations.abandon(scene.act(), client, rotation, "not now")
    asks.ask(scene.act("tom"), client, "quay", ["quay.read"], AccessKind.APPLICATION, "for the board")
    made = requests.make_request(scene.act("tom"), client, None, "the board needs it", {}, False)
    requests.decide_request(scene.act("vera"), made.id, RequestEvent.GRANT, None, None, "so it is")
    now = scene.act().now
    for minutes in (1, 20):
        notices.tell(scene.backend, "alder", now + timedelta(minutes=minutes))
    registrations.change_owners(scene.act(at=timedelta(minutes=21)), client, ["ines@alder.example"], [])
    notices.tell(scene.backend, "alder", now + timedelta(minutes=22))
    with Session(scene.backend.engine) as session:
        owner = session.exec(select(PersonRow.id).where(PersonRow.login == "ines@alder.example")).one()
        told = set(session.exec(select(NoticeRow.key).where(NoticeRow.person_id == owner)))
    assert {f"request/{made.id}/granted", f"rotation/{rotation}/ended"} <= told
    assert untold(scene, now + timedelta(minutes=22)) == set()
