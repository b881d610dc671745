"""What every command stands on: the database, with a schema that this version speaks, and its sealing key."""

from __future__ import annotations

from collections.abc import Callable
from datetime import UTC, datetime

from sqlalchemy import Engine
from sqlalchemy.exc import ProgrammingError

from jamb.actions.base.backend import Backend
from jamb.core.errors import Misuse
from jamb.service.sealing import sealer_for
from jamb.service.settings import Settings
from jamb.store.base.engine import make_engine
from jamb.store.base.migrate import current_revision, newest_revision


def backend_of(settings: Settings, *, prepare: Callable[[Engine], None] | None = None) -> Backend:
    """Return the backend of a command.

    Args:
        prepare: what is done to the database first; None: its schema must be current.

    Raises:
        Misuse: the schema is another version's, or the sealing key is missing or another.
    """
    engine = make_engine(settings.database())
    if prepare is not None:
        prepare(engine)
    else:
        refuse_other_schema(engine)
    return Backend(engine, sealer_for(settings, engine, datetime.now(UTC)), settings.base_url)


def refuse_other_schema(engine: Engine) -> None:
    """Raise `Misuse` unless the database has the schema of this version."""
    try:
        revision = current_revision(engine)
    except ProgrammingError:
        revision = None
    if revision is None:
        raise Misuse("the database was never migrated: run `jamb-service migrate`, or `jamb-service directories open`")
    if revision != newest_revision():
        raise Misuse(
            f"the database has schema {revision}, this version speaks {newest_revision()}: run `jamb-service migrate` "
            "of the newer version, or start that one"
        )
