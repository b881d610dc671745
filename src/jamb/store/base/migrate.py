"""Bring a database to the current schema. Safe to run from several processes at once, and while earlier ones serve.

A migration adds: what the release before knows stays as it is, so that its processes go on. One that takes something
away, or renames it, has `AFTER` in its module: the first revision whose code does without. It is applied apart, when no
process of an earlier version runs any more, and the database keeps which code may go on with it (its floor).
"""

from __future__ import annotations

import os
import re
from datetime import UTC, datetime
from functools import cache
from pathlib import Path
from typing import NamedTuple

from sqlalchemy import CheckConstraint, Column, Connection, Engine, Integer, Text, text
from sqlalchemy.exc import OperationalError
from sqlmodel import Field, Session, SQLModel

from jamb.core.errors import Busy
from jamb.store.base.partitions import keep_parts

# Any constant will do; it is only ever compared with itself.
_LOCK = 0x6A616D62
# No code from before this revision was ever released.
FIRST_RELEASED = "0029"
# Others wait behind a migration that waits for a table: so it does not wait for long.
_LOCK_WAIT = "10s"
_LOCK_NOT_AVAILABLE = "55P03"
# What the file of a migration says of itself, each at the beginning of a line.
_SAYS = re.compile(r'^(revision|AFTER)\b[^=\n]*= "(\w+)"', re.MULTILINE)


class SchemaFloorRow(SQLModel, table=True):
    """The one row that says which code may go on with a schema that it does not know.

    `oldest`: the revision of the oldest code that does without all that was taken away so far.
    """

    __tablename__ = "schema_floor"
    __table_args__ = (CheckConstraint("number = 1", name="schema_floor_once"),)

    number: int = Field(sa_column=Column(Integer, primary_key=True, autoincrement=False))
    oldest: str = Field(sa_type=Text)


class _Step(NamedTuple):
    revision: str
    after: str


def version_folders() -> tuple[Path, ...]:
    """Return where migrations are."""
    return (Path(__file__).parents[1] / "migrations" / "versions",)


def run_alembic(step: str, connection: Connection, target: str) -> None:
    """Do a step, "upgrade" or "downgrade", to a revision within the transaction of a connection."""
    from alembic import command  # noqa: PLC0415 - a service whose schema is up to date starts without
    from alembic.config import Config  # noqa: PLC0415

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parents[1] / "migrations"))
    config.set_main_option("path_separator", "os")
    config.set_main_option("version_locations", os.pathsep.join(map(str, version_folders())))
    config.attributes["connection"] = connection
    getattr(command, step)(config, target)


def migrate(engine: Engine, *, finish: bool = True) -> None:
    """Apply what is missing, all or nothing, under an advisory lock; nothing where the schema is a later version's.

    Args:
        finish: also what takes something away that the code of earlier versions needs.

    Raises:
        Busy: something else holds a table for too long.
    """
    try:
        with engine.begin() as connection:
            connection.execute(text("select pg_advisory_xact_lock(:key)"), {"key": _LOCK})
            connection.execute(text(f"set local lock_timeout = '{_LOCK_WAIT}'"))
            session = Session(connection)
            there = revision_of(session)
            if is_later(session):
                return
            target = newest_revision() if finish or there is None else _target(there)
            if target != there:
                run_alembic("upgrade", connection, target)
            _keep_floor(session, revision_of(session))
            for _, statement in keep_parts(datetime.now(UTC).date()):
                connection.exec_driver_sql(statement.replace("%", "%%"))
            session.flush()
    except OperationalError as error:
        if getattr(error.orig, "sqlstate", "") != _LOCK_NOT_AVAILABLE:
            raise
        raise Busy(
            "Something else holds a table that a migration needs. Nothing was changed.",
            next_step="Run it again when less is going on; pg_stat_activity says who holds it.",
        ) from error


def newest_revision() -> str:
    return _steps()[-1].revision


def oldest_spoken() -> str:
    """Return the oldest schema that this code works with: the newest one, but for what is taken away after it."""
    return next(step.revision for step in reversed(_steps()) if not step.after)


def unfinished(session: Session) -> bool:
    """Tell whether something is still to be taken away, when no process of an earlier version runs any more."""
    return not is_later(session) and revision_of(session) != newest_revision()


def is_later(session: Session) -> bool:
    """Tell whether the schema is of a later version than this code."""
    revision = revision_of(session)
    return revision is not None and revision not in {step.revision for step in _steps()}


def schema_fault(session: Session) -> str:
    """Return why this code cannot work with the database's schema, as a sentence without its end; empty: it can."""
    revision = revision_of(session)
    if revision is None:
        return "the database was never migrated: run `jamb-service migrate`, or `jamb-service directories open`"
    known = [step.revision for step in _steps()]
    if revision in known:
        if known.index(revision) >= known.index(oldest_spoken()):
            return ""
        return f"the database has schema {revision}, this version needs {oldest_spoken()}: run `jamb-service migrate`"
    floor: str | None = session.execute(text("select oldest from schema_floor")).scalar_one_or_none()
    if floor is not None and floor <= newest_revision():
        return ""
    return (
        f"the database has schema {revision}, for versions that speak {floor} or later, and this one speaks "
        f"{newest_revision()}: start the newer version"
    )


def revision_of(session: Session) -> str | None:
    """Return the revision of the database's schema; None where it was never migrated."""
    if session.execute(text("select to_regclass('alembic_version')")).scalar_one() is None:
        return None
    revision: str | None = session.execute(text("select version_num from alembic_version")).scalar_one_or_none()
    return revision


@cache
def _steps() -> list[_Step]:
    """Return all migrations, the first one first: as their files say, for to import them all takes long."""
    said = [dict(_SAYS.findall(path.read_text())) for folder in version_folders() for path in folder.glob("[0-9]*.py")]
    return sorted(_Step(says["revision"], says.get("AFTER", "")) for says in said)


def _target(there: str) -> str:
    """Return the last migration before the first of those to come that takes something away."""
    steps = _steps()
    begin = next((place for place, step in enumerate(steps) if step.revision == there), len(steps))
    target = there
    for step in steps[begin + 1 :]:
        if step.after:
            break
        target = step.revision
    return target


def _keep_floor(session: Session, revision: str | None) -> None:
    floor = FIRST_RELEASED
    for step in _steps():
        floor = max(floor, step.after)
        if step.revision == revision:
            break
    session.execute(text("update schema_floor set oldest = :floor where oldest < :floor"), {"floor": floor})
