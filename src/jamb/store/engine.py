"""Connecting to PostgreSQL, and telling its absence from our mistakes."""

from __future__ import annotations

from sqlalchemy import Engine, create_engine
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from jamb.core.errors import StoreUnavailable

CONNECT_TIMEOUT_SECONDS = 3


def driver_url(url: str) -> str:
    """Return the URL as psycopg wants it, without SQLAlchemy's driver part."""
    return url.replace("postgresql+psycopg://", "postgresql://", 1)


def make_engine(url: str, *, pool_size: int = 8) -> Engine:
    """Make an engine whose connections are tested before use, so that a restarted server is met without an error."""
    return create_engine(
        driver_url(url).replace("postgresql://", "postgresql+psycopg://", 1),
        pool_size=pool_size,
        max_overflow=4,
        pool_timeout=5,
        pool_pre_ping=True,
        connect_args={"connect_timeout": CONNECT_TIMEOUT_SECONDS, "application_name": "jamb"},
    )


def is_outage(error: BaseException) -> bool:
    """Tell whether the database went away, as opposed to having refused a statement."""
    if isinstance(error, (OperationalError, InterfaceError, PoolTimeout)):
        return True
    return isinstance(error, DBAPIError) and error.connection_invalidated


def unavailable() -> StoreUnavailable:
    return StoreUnavailable(
        "The database does not answer. Nothing was changed.",
        next_step="Try again in a few seconds.",
        retry_after_seconds=2,
    )
