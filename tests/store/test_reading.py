"""Several small reads in one statement are the same reads."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, date, datetime
from uuid import UUID

import pytest
import sqlalchemy as sa
from sqlmodel import Session

from jamb.store.base.columns import MOMENT, parameter
from jamb.store.base.reading import Reading, Readings
from jamb.store.connections.engine import make_engine
from tests.world import World

ID = UUID(int=7)
KINDS = sa.select(
    sa.column("at", MOMENT),
    sa.column("day", sa.Date),
    sa.column("id", sa.Uuid),
    sa.column("told", sa.JSON),
    sa.column("n", sa.Integer),
).select_from(
    sa.text(
        "(values (timestamptz '2026-11-30 12:00:00.123456+01', date '2026-02-28', cast(:key as uuid), '{\"a\": [1, null]}'::jsonb, 2),"
        " (null, null, null, null, 1)) as given (at, day, id, told, n)"
    )
)
LATER = sa.select(sa.literal_column("1").label("one")).where(
    parameter("now", MOMENT) > sa.literal_column("timestamptz '2026-01-01'")
)


@pytest.fixture
def session(world: World) -> Iterator[Session]:
    engine = make_engine(world.cluster.url)
    with Session(engine) as made:
        yield made
    engine.dispose()


def test_what_is_read_at_once_is_what_is_read_apart(session: Session) -> None:
    now = datetime(2026, 11, 30, tzinfo=UTC)
    found = []
    for at_once in (False, True):
        asked = Readings()
        kinds = asked.add(
            Reading(KINDS.order_by(sa.text("n")), {"key": str(ID)}, lambda rows: [tuple(row) for row in rows])
        )
        later = asked.add(Reading(LATER, {"now": now}, lambda rows: [tuple(row) for row in rows]))
        never = asked.add(Reading(LATER.where(sa.false()), {"now": now}, lambda rows: [tuple(row) for row in rows]))
        asked.read(session, at_once=at_once)
        found.append((kinds.value, later.value, never.value))
    apart, together = found
    assert together == apart
    assert together[0] == [
        (None, None, None, None, 1),
        (datetime(2026, 11, 30, 11, 0, 0, 123456, tzinfo=UTC), date(2026, 2, 28), ID, {"a": [1, None]}, 2),
    ]
    assert together[1:] == ([(1,)], [])


def test_one_name_with_two_values_is_refused(session: Session) -> None:
    asked = Readings()
    for year in (2026, 2027):
        asked.add(Reading(LATER, {"now": datetime(year, 1, 2, tzinfo=UTC)}, list))
    with pytest.raises(ValueError, match="now is asked for with two values"):
        asked.read(session, at_once=True)
