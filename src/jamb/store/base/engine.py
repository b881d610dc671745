"""Connecting to PostgreSQL, and telling its absence from our mistakes."""

from __future__ import annotations

from typing import Any

from psycopg_pool import PoolTimeout as DriverPoolTimeout
from sqlalchemy import Engine, create_engine
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from jamb.core.errors import Busy, StoreUnavailable, WorldFailure

CONNECT_TIMEOUT_SECONDS = 3
# Connections beside the pool, made when all of it are at work.
MOST_OVERFLOW = 4
POOL_SIZE = 8
MOST_AT_ONCE = POOL_SIZE + MOST_OVERFLOW
POOL_TIMEOUT_SECONDS = 5.0


def driver_url(url: str) -> str:
    """Return the URL as psycopg wants it, without SQLAlchemy's driver part."""
    return url.replace("postgresql+psycopg://", "postgresql://", 1)


def make_engine(url: str, *, pool_size: int = POOL_SIZE, pool_timeout: float = POOL_TIMEOUT_SECONDS) -> Engine:
    """Make an engine whose connections are tested before use, so that a restarted server is met without an error."""
    return create_engine(
        driver_url(url).replace("postgresql://", "postgresql+psycopg://", 1),
        pool_size=pool_size,
        max_overflow=MOST_OVERFLOW,
        pool_timeout=pool_timeout,
        pool_pre_ping=True,
        connect_args={"connect_timeout": CONNECT_TIMEOUT_SECONDS, "application_name": "jamb"},
    )


def outage_of(error: BaseException) -> WorldFailure | None:
    """Return what to say where the database went away, or no connection to it was free; None where it refused."""
    if isinstance(error, PoolTimeout):
        # To make a connection fails otherwise: here all that may be made are at work.
        return busy()
    gone = isinstance(error, (OperationalError, InterfaceError))
    return unavailable() if gone or (isinstance(error, DBAPIError) and error.connection_invalidated) else None


def busy() -> Busy:
    return Busy(
        "The service is busy: all of its database connections are at work. Nothing was changed.",
        next_step="Try again in a few seconds.",
        retry_after_seconds=2,
    )


def driver_outage(error: BaseException, pool: Any) -> WorldFailure:
    """Return the same of an error of the driver or its pool: a pool whose connections all work is busy."""
    if isinstance(error, DriverPoolTimeout):
        stats = pool.get_stats()
        return busy() if stats.get("pool_size", 0) >= stats.get("pool_max", 1) else unavailable()
    return unavailable()


def unavailable() -> StoreUnavailable:
    return StoreUnavailable(
        "The database does not answer. Nothing was changed.",
        next_step="Try again in a few seconds.",
        retry_after_seconds=2,
    )
