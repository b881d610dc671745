"""Forget what has run out by itself. Any number of processes may: each takes rows that no other holds."""

from __future__ import annotations

import asyncio
from datetime import UTC, datetime
from typing import Any

import structlog
from psycopg import AsyncConnection
from psycopg import Error as DriverError
from psycopg_pool import AsyncConnectionPool, PoolTimeout

from jamb.store.base.retention import FORGET

EVERY_SECONDS = 60.0
_log = structlog.get_logger("jamb.retention")


async def forgetting(pool: AsyncConnectionPool[AsyncConnection[tuple[Any, ...]]]) -> None:
    """Forget every minute, for ever. What cannot be forgotten now is tried again with the others."""
    while True:
        await asyncio.sleep(EVERY_SECONDS)
        for name, statement in FORGET.items():
            try:
                async with pool.connection() as connection:
                    await connection.execute(statement, {"now": datetime.now(UTC)})
            except (DriverError, PoolTimeout) as error:
                _log.warning("not forgotten, will try again", what=name, error=type(error).__name__)
