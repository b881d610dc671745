"""What one person may do is looked up by the person, however many others hold roles in the database."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any

import pytest
from sqlalchemy import event, text
from sqlmodel import Session

from jamb.core import own_api
from jamb.store.directory import people, roles
from jamb.store.entry.people_path import READ_BY_CODE, REFRESH, STILL_COUNTS
from jamb.store.resources import resources
from tests.actions.scene import NOW, Scene

MANY = 3_000
BY_HOLDER = {"ix_role_assignment_person_id", "ix_role_assignment_group_id"}
_OTHERS = """
insert into person (id, directory_id, login, name, active, created_at)
    select md5('many' || n)::uuid, id, 'many' || n || '@alder.example', 'Many ' || n, true, now()
    from directory, generate_series(1, :many) n where slug = 'alder';
insert into role_assignment (id, role_id, person_id, assigned_at, assigned_by)
    select md5('held' || n)::uuid, role.id, md5('many' || n)::uuid, now() - interval '1 day', 'a test'
    from role, generate_series(1, :many) n where role.name = 'auditor';
analyze;
"""


@pytest.fixture
def crowded(scene: Scene) -> Iterator[Session]:
    with scene.backend.engine.begin() as connection:
        for statement in filter(str.strip, _OTHERS.split(";")):
            connection.execute(text(statement), {"many": MANY} if ":many" in statement else {})
    with Session(scene.backend.engine) as session:
        yield session


def scans(node: dict[str, Any]) -> Iterator[str]:
    """By what rows of role assignments are looked up: the index, or the whole table."""
    if node.get("Relation Name") == "role_assignment" and node["Node Type"] != "Bitmap Heap Scan":
        yield node.get("Index Name", "the whole table")
    if node["Node Type"] == "Bitmap Index Scan" and node["Index Name"].startswith("ix_role_assignment"):
        yield node["Index Name"]
    for part in node.get("Plans", ()):
        yield from scans(part)


def planned(session: Session, statement: str, values: Any) -> set[str]:
    (found,) = session.connection().exec_driver_sql(f"explain (format json) {statement}", values).one()
    return set(scans(found[0]["Plan"]))


def sent(session: Session, work: Callable[[], object]) -> list[tuple[str, Any]]:
    """The statements that some work sends, with their values."""
    noted: list[tuple[str, Any]] = []

    def note(_connection: Any, _cursor: Any, statement: str, values: Any, *_: Any) -> None:
        noted.append((statement, values))

    engine = session.get_bind()
    event.listen(engine, "before_cursor_execute", note)
    try:
        work()
    finally:
        event.remove(engine, "before_cursor_execute", note)
    return noted


def test_the_rows_of_others_are_not_read(scene: Scene, crowded: Session) -> None:
    tom = crowded.get_one(people.PersonRow, scene.people["tom"].id)
    own = resources.by_name(crowded, tom.directory_id, own_api.NAME)
    assert own is not None
    for work in (
        lambda: roles.standing(crowded, tom, own.id, NOW),
        lambda: roles.powers_of(crowded, tom.id, NOW, None),
        lambda: roles.powers_of(crowded, tom.id, NOW, NOW),
    ):
        [(statement, values)] = sent(crowded, work)
        assert planned(crowded, statement, values) == BY_HOLDER
    asked = {"code": b"x" * 32, "client": "c", "slug": "alder", "now": NOW}
    brought = {"token": b"x" * 32, "digest": b"y" * 32, "resource": None, "proven": False, "kinds": ["web"]}
    refresh = {"recently": NOW, "most": 9, "scope": None, "at": None, "key": "", "next": b"z" * 32}
    token = {"slug": "alder", "audience": "a", "clients": ["c"], "sid": tom.id, "person": tom.id, "issued": NOW}
    for statement, values in (
        (REFRESH, {**asked, **brought, **refresh}),
        (READ_BY_CODE, asked),
        (STILL_COUNTS, {**token, "now": NOW}),
    ):
        # What a client holds itself is found by the client.
        assert planned(crowded, statement.replace("%b", "%s"), values) - {"role_assignment_by_client"} == BY_HOLDER
