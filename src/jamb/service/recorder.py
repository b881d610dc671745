"""Records of token requests, written in groups.

A failure is answered only after its record is committed. Successes wait for nobody: at most `GROUP_SECONDS` of them are
lost with the process. While the database is away, successes are kept up to a bound, oldest dropped first.
"""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

import structlog
from psycopg import AsyncConnection
from psycopg import Error as DriverError
from psycopg_pool import AsyncConnectionPool, PoolTimeout

from jamb.core.attempts import Outcome
from jamb.service.alongside import alongside
from jamb.store.engine import unavailable
from jamb.store.tokens import ATTEMPT_COLUMNS, RECORD_ATTEMPTS, TOUCH_CREDENTIALS

GROUP_SECONDS = 0.25
MOST_KEPT = 50_000
_OUTCOME = ATTEMPT_COLUMNS.index("outcome")
_log = structlog.get_logger("jamb.recorder")


class Attempt(NamedTuple):
    """One token request; the fields before `credential_id` are the columns of the table, in order."""

    directory_id: UUID
    client_id: str
    at: datetime
    outcome: Outcome
    hint: str
    resource: str
    detail: str
    address: str
    user_agent: str
    credential_id: UUID | None = None


class Recorder:
    def __init__(self, pool: AsyncConnectionPool[AsyncConnection[tuple[Any, ...]]]) -> None:
        self._pool = pool
        self._kept: deque[Attempt] = deque(maxlen=MOST_KEPT)
        self._waiting: list[tuple[Attempt, asyncio.Future[None]]] = []
        self._wake = asyncio.Event()
        self._writing = asyncio.Lock()

    def note(self, attempt: Attempt) -> None:
        """Keep a success for the next group."""
        self._kept.append(attempt)

    async def record(self, attempt: Attempt) -> None:
        """Return when the record is committed. Raises `StoreUnavailable` if it cannot be."""
        done: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiting.append((attempt, done))
        self._wake.set()
        await done

    @asynccontextmanager
    async def running(self) -> AsyncIterator[None]:
        try:
            async with alongside(self._run(), "recorder"):
                yield
        finally:
            await self._write()

    async def _run(self) -> None:
        while True:
            with suppress(TimeoutError):
                await asyncio.wait_for(self._wake.wait(), GROUP_SECONDS)
            self._wake.clear()
            # Whoever stops the service does not take back a group that is on its way: the last write waits for it.
            await asyncio.shield(self._write())

    async def _write(self) -> None:
        async with self._writing:
            await self._write_group()

    async def _write_group(self) -> None:
        if not self._kept and not self._waiting:
            return
        successes, waiting = list(self._kept), self._waiting
        self._kept.clear()
        self._waiting = []
        try:
            await self._insert([*successes, *(attempt for attempt, _ in waiting)])
        except (DriverError, PoolTimeout) as error:
            _log.warning("attempts not written", kept=len(successes), failed=len(waiting), error=type(error).__name__)
            self._kept.extendleft(reversed(successes))
            for _, done in waiting:
                if not done.done():
                    done.set_exception(unavailable())
            return
        for _, done in waiting:
            if not done.done():
                done.set_result(None)

    async def _insert(self, attempts: list[Attempt]) -> None:
        touched: dict[UUID, datetime] = {}
        for attempt in attempts:
            if attempt.credential_id is not None and attempt.outcome is Outcome.ISSUED:
                touched[attempt.credential_id] = attempt.at
        columns: list[list[Any]] = [list(column) for column in zip(*attempts, strict=True)][: len(ATTEMPT_COLUMNS)]
        # The driver writes an enum by its name; the column holds its value.
        columns[_OUTCOME] = [attempt.outcome.value for attempt in attempts]
        async with self._pool.connection() as connection, connection.transaction():
            await connection.execute(RECORD_ATTEMPTS, columns, prepare=True)
            if touched:
                await connection.execute(TOUCH_CREDENTIALS, [list(touched), list(touched.values())], prepare=True)
