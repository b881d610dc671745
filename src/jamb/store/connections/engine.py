"""The engine: a pool of connections to PostgreSQL, each tested before use."""

from __future__ import annotations

import time

from psycopg import Error as DriverError
from sqlalchemy import Engine, create_engine, event
from sqlalchemy.exc import InvalidatePoolError, OperationalError
from sqlalchemy.pool import ConnectionPoolEntry, QueuePool

from jamb.store.connections import deadline
from jamb.store.connections.bounded import BoundedConnection, Patience, connect

# Connections beside the pool, made when all of it are at work.
MOST_OVERFLOW = 4
POOL_SIZE = 8
POOL_TIMEOUT_SECONDS = 5.0


def make_engine(
    url: str,
    patience: Patience | None = None,
    *,
    pool_size: int = POOL_SIZE,
    pool_timeout: float = POOL_TIMEOUT_SECONDS,
    name: str = "jamb",
) -> Engine:
    """Make an engine whose connections are tested before use, so that a restarted server is met without an error.

    Args:
        url: any connection string of libpq, with several hosts too.
        patience: how long a statement may take; None: as long as it takes.
        name: by which the server knows the connections.
    """
    waits = patience or Patience()
    engine = create_engine(
        "postgresql+psycopg://",
        creator=lambda: connect(url, waits, name),
        pool_size=pool_size,
        max_overflow=MOST_OVERFLOW,
        pool_timeout=pool_timeout,
        # The one used last comes first: what it has prepared and planned is not done anew on each of the others.
        pool_use_lifo=True,
    )

    @event.listens_for(engine, "checkout")
    def _tested(connection: BoundedConnection, record: ConnectionPoolEntry, *_: object) -> None:
        """As the library's own test, with an end: on a server that hangs that one waits for ever."""
        if connection.is_fresh():
            return
        try:
            connection.ping()
            record.info["answered"] = True
        except DriverError as error:
            if record.info.get("answered"):
                raise InvalidatePoolError("the server was restarted or does not answer") from error
            # One just made, as where a pooler takes connections for a server that is away: others would be no better.
            raise OperationalError("ping", None, error, connection_invalidated=True) from error

    @event.listens_for(engine, "checkin")
    def _given_back(connection: BoundedConnection | None, *_: object) -> None:
        if connection is not None:
            connection.given_back = time.monotonic()

    @event.listens_for(engine, "before_cursor_execute")
    def _in_time(*_: object) -> None:
        deadline.check()

    return engine


def connections_of(engine: Engine) -> tuple[int, int]:
    """Return how many connections the engine's pool has, and how many of them are free."""
    pool = engine.pool
    assert isinstance(pool, QueuePool)
    return pool.checkedin() + pool.checkedout(), pool.checkedin()
