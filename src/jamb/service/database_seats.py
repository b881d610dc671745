"""Seats at the database for calls of the API: as many at a time as there are connections for them.

A call keeps its connection while it goes from its guard to its work, each in a thread. Were threads to wait for
connections that waiting calls hold, nothing would move. So calls wait for a seat first, without a thread.
"""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from jamb.store.connections.engine import POOL_TIMEOUT_SECONDS
from jamb.store.connections.outages import busy


class Seats:
    def __init__(self, at_once: int, seconds: float = POOL_TIMEOUT_SECONDS) -> None:
        """`at_once`: connections of the pool; those beyond it are for what asks for one of its own (sign-ins)."""
        self._free = asyncio.Semaphore(at_once)
        self._seconds = seconds

    @asynccontextmanager
    async def seat(self) -> AsyncIterator[None]:
        """Have a seat for the block. Raises `Busy` when none was free in time."""
        try:
            async with asyncio.timeout(self._seconds):
                await self._free.acquire()
        except TimeoutError as error:
            raise busy() from error
        try:
            yield
        finally:
            self._free.release()
