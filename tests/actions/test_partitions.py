"""Tables that are parted by day: parts are there before they are needed, and go when their days are past."""

from __future__ import annotations

from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, date, datetime, timedelta
from uuid import UUID, uuid4

import psycopg
import pytest
from sqlmodel import Session

from jamb.store.base.partitions import PARTED, is_part, keep_parts
from jamb.store.base.work import observation
from jamb.store.connections.engine import make_engine
from jamb.store.resources import usage
from tests.actions.scene import NOW, Scene

DAY = timedelta(days=1)
Database = psycopg.Connection[tuple[object, ...]]


@pytest.fixture
def database(scene: Scene) -> Iterator[Database]:
    with psycopg.connect(scene.url, autocommit=True) as connection:
        yield connection


def parts(database: Database, table: str) -> dict[str, int]:
    """The parts of a table, each with how many rows it has."""
    names = database.execute(
        "select inhrelid::regclass::text from pg_inherits where inhparent = %s::regclass order by 1", [table]
    ).fetchall()
    assert all(is_part(str(name)) for (name,) in names)
    return {str(name): len(database.execute(f"select from {name}").fetchall()) for (name,) in names}


def keep(database: Database, today: date) -> None:
    for _, statement in keep_parts(today):
        database.execute(statement)


def attempt(directory: UUID, at: datetime, database: Database, client: str = "c") -> None:
    database.execute(
        "insert into attempt (directory_id, client_id, at, day, outcome, hint, resource, detail, address, user_agent) "
        "values (%s, %s, %s, %s, 'issued', '', '', '', '', '')",
        [directory, client, at, at.date()],
    )


def test_records_lie_in_the_part_of_their_day_and_a_part_goes_when_all_of_it_is_past(
    scene: Scene, database: Database
) -> None:
    directory, today = scene.act().directory.id, datetime.now(UTC).date()
    for one in PARTED:
        made = parts(database, one.table)
        assert len(made) >= 3, "made with the schema: this one, the next, and the rest"
        assert sum(made.values()) == 0
    ago = [datetime.now(UTC) - days * DAY for days in (0, 30, 96, 98, 500)]
    for at in ago:
        attempt(directory, at, database)
    assert parts(database, "attempt")["attempt_rest"] == 4, "what has no part yet is kept all the same"
    keep(database, today)
    found = parts(database, "attempt")
    assert found["attempt_rest"] == 0
    # Of the policy's 90 days all are there, and up to a week more; what is older was the rest's.
    kept = [row[0] for row in database.execute("select at from attempt order by at desc").fetchall()]
    assert kept[:2] == ago[:2]
    assert ago[4] not in kept
    for _ in range(3):
        keep(database, today)
    assert parts(database, "attempt") == found, "done again it changes nothing"
    keep(database, today + 100 * DAY)
    assert database.execute("select count(*) from attempt").fetchone() == (0,)
    assert all(
        date.fromisoformat(name[-8:]) + 7 * DAY > today + 10 * DAY
        for name in parts(database, "attempt")
        if name[-1].isdigit()
    )


def test_records_of_days_to_come_wait_for_their_part(scene: Scene, database: Database) -> None:
    """A machine whose clock is ahead writes them."""
    directory, today = scene.act().directory.id, datetime.now(UTC).date()
    attempt(directory, datetime.now(UTC) + 300 * DAY, database)
    keep(database, today)
    assert parts(database, "attempt")["attempt_rest"] == 1
    keep(database, today + 299 * DAY)
    found = parts(database, "attempt")
    assert (found["attempt_rest"], sum(found.values())) == (0, 1)


def test_many_keep_the_parts_at_once_while_others_write(scene: Scene, database: Database) -> None:
    directory, today = scene.act().directory.id, datetime.now(UTC).date()

    def work(number: int) -> None:
        with psycopg.connect(scene.url, autocommit=True) as connection:
            for step in range(10):
                if number % 2:
                    keep(connection, today + 5 * step * DAY)
                    continue
                at = datetime.now(UTC) + 5 * step * DAY
                try:
                    attempt(directory, at, connection, f"c{number}")
                except psycopg.errors.CheckViolation:
                    # Its part was made between its way was found and gone.
                    attempt(directory, at, connection, f"c{number}")

    with ThreadPoolExecutor(6) as pool:
        list(pool.map(work, range(6)))
    keep(database, today + 45 * DAY)
    found = parts(database, "attempt")
    assert (found["attempt_rest"], sum(found.values())) == (0, 30)


def test_a_batch_is_counted_once_on_whichever_day_it_comes_again(scene: Scene) -> None:
    engine = make_engine(scene.url)
    with Session(engine) as session:
        resource = session.connection().exec_driver_sql("select id from resource limit 1").scalar_one()
    batch = uuid4()

    def come(number: int) -> bool:
        with observation(engine) as session:
            return usage.remember_batch(session, batch, resource, NOW + number * timedelta(hours=13))

    with ThreadPoolExecutor(6) as pool:
        assert sorted(pool.map(come, range(6))) == [False] * 5 + [True]
    engine.dispose()
