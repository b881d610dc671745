"""Bring a database to the current schema. Safe to run from several processes at once."""

from __future__ import annotations

from functools import cache
from pathlib import Path

from alembic import command
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlalchemy import Engine, text
from sqlmodel import Session

# Any constant will do; it is only ever compared with itself.
_LOCK = 0x6A616D62


def alembic_config() -> Config:
    config = Config()
    config.set_main_option("script_location", str(Path(__file__).parents[1] / "migrations"))
    config.set_main_option("path_separator", "os")
    return config


def migrate(engine: Engine) -> None:
    """Apply what is missing, under an advisory lock."""
    config = alembic_config()
    with engine.begin() as connection:
        connection.execute(text("select pg_advisory_xact_lock(:key)"), {"key": _LOCK})
        config.attributes["connection"] = connection
        command.upgrade(config, "head")


@cache
def newest_revision() -> str:
    revision = ScriptDirectory.from_config(alembic_config()).get_current_head()
    assert revision is not None
    return revision


def revision_of(session: Session) -> str | None:
    """Return the revision of the database's schema; None where it was never migrated."""
    if session.execute(text("select to_regclass('alembic_version')")).scalar_one() is None:
        return None
    revision: str | None = session.execute(text("select version_num from alembic_version")).scalar_one_or_none()
    return revision


def current_revision(engine: Engine) -> str | None:
    with Session(engine) as session:
        return revision_of(session)
