"""A round of notices looks at what is new alone, and leaves nothing untold that stands."""

from __future__ import annotations

from datetime import datetime, timedelta
from uuid import UUID

import pytest
from sqlmodel import Session, select

from jamb.actions.base.lookups import find_directory
from jamb.actions.notices import notices, rounds
from jamb.core.notices import NoticeKind
from jamb.store.notices.notices import NoticeRow
from tests.actions.rounds.walk import Walk
from tests.actions.scene import Scene


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
