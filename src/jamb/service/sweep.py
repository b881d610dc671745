"""Forget what has run out by itself. Any number of processes may: each takes rows that no other holds."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from datetime import UTC, datetime
from typing import Any

import structlog
from psycopg import AsyncConnection
from psycopg import Error as DriverError
from psycopg_pool import AsyncConnectionPool, PoolTimeout

from jamb.service.alongside import alongside
from jamb.store.tokens import FORGET_ASSERTIONS, FORGET_ATTEMPTS

EVERY_SECONDS = 60.0
_log = structlog.get_logger("jamb.sweep")


@asynccontextmanager
async def sweeping(pool: AsyncConnectionPool[AsyncConnection[tuple[Any, ...]]]) -> AsyncIterator[None]:
    """Sweep until the block ends."""
    async with alongside(_run(pool), "sweep"):
        yield


async def _run(pool: AsyncConnectionPool[AsyncConnection[tuple[Any, ...]]]) -> None:
    while True:
        await asyncio.sleep(EVERY_SECONDS)
        try:
            async with pool.connection() as connection:
                for statement in (FORGET_ASSERTIONS, FORGET_ATTEMPTS):
                    await connection.execute(statement, {"now": datetime.now(UTC)})
        except (DriverError, PoolTimeout) as error:
            _log.warning("not swept, will try again", error=type(error).__name__)
