"""What every command stands on: the database, with a schema that this version speaks, and its sealing key."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime

import structlog
from sqlalchemy import Engine
from sqlalchemy.exc import OperationalError
from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.actions.directory.addresses import address_fault
from jamb.core.errors import Misuse
from jamb.service.config.sealing import sealer_for
from jamb.service.config.settings import Settings
from jamb.store.base.migrate import schema_fault
from jamb.store.connections.bounded import Patience
from jamb.store.connections.engine import make_engine
from jamb.store.connections.outages import reason_of

# A machine may start before its database does.
START_SECONDS = 60.0
AGAIN_SECONDS = 2.0


def backend_of(settings: Settings, *, prepare: Callable[[Engine], None] | None = None) -> Backend:
    """Return the backend of a command.

    Args:
        prepare: what is done to the database first.

    Raises:
        Misuse: this version does not work with the schema, or the sealing key is missing or another.
    """
    engine = make_engine(settings.direct_database())
    if prepare is not None:
        prepare(engine)
    refuse_other_schema(engine)
    return Backend(engine, sealer_for(settings, engine, datetime.now(UTC)), settings.base_url)


def look_before_starting(settings: Settings) -> None:
    """Refuse to serve with another schema, sealing key or public address; wait a little for a database that is away.

    Raises:
        Misuse: with a sentence of what to do. OperationalError: the database did not answer for `START_SECONDS`.
    """
    ends = time.monotonic() + START_SECONDS
    while True:
        try:
            return _look(settings)
        except OperationalError as error:
            if time.monotonic() > ends:
                raise
            structlog.get_logger("jamb.start").warning("the database does not answer yet", **reason_of(error))
            time.sleep(AGAIN_SECONDS)


def _look(settings: Settings) -> None:
    engine = make_engine(settings.database(), Patience(settings.statement_seconds, settings.database_pooled))
    settings.direct_database()
    try:
        refuse_other_schema(engine)
        sealer_for(settings, engine, datetime.now(UTC))
        if fault := address_fault(engine, settings.base_url):
            raise Misuse(fault)
    finally:
        engine.dispose()


def refuse_other_schema(engine: Engine) -> None:
    """Raise `Misuse` unless this version works with the database's schema."""
    with Session(engine) as session:
        fault = schema_fault(session)
    if fault:
        raise Misuse(fault)
