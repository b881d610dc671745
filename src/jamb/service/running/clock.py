"""The machine's clock, as far as it can be believed: what is issued, found or forgotten by a wrong one stays wrong.

It is compared with the database's. Between two comparisons a clock that was set shows by the time that passed
meanwhile, which no setting changes: from that moment until the next comparison nothing is done by it.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable, Coroutine
from datetime import UTC, datetime

from jamb.core.errors import ClockWrong, WorldFailure
from jamb.store.connections.server import MOST_APART_SECONDS, clock_fault

EVERY_SECONDS = 30.0
# While it is in doubt.
SOON_SECONDS = 1.0


def _offset() -> float:
    return time.time() - time.monotonic()


class Clock:
    def __init__(self) -> None:
        self._fault = ""
        self._offset = _offset()

    def fault(self) -> str:
        """Return what is wrong with it; empty: nothing that is known."""
        if self._fault:
            return self._fault
        moved = _offset() - self._offset
        if abs(moved) <= MOST_APART_SECONDS:
            return ""
        return f"this machine's clock was just set by {moved:.0f} seconds, and is compared with the database's"

    def now(self) -> datetime:
        """Return the time. Raises `ClockWrong`."""
        if fault := self.fault():
            raise ClockWrong(
                f"The service cannot go by its clock: {fault}. Nothing was changed.",
                next_step="Try again in a minute; tell whoever runs the service.",
                retry_after_seconds=30,
            )
        return datetime.now(UTC)

    def compared(self, of_database: datetime) -> None:
        """Take in what the database's clock said just now."""
        self._fault = clock_fault(of_database)
        if not self._fault:
            self._offset = _offset()


async def comparing(clock: Clock, read: Callable[[], Coroutine[None, None, datetime]]) -> None:
    """Compare for ever, soon again while it is in doubt. While the database is away nothing is known of its clock."""
    since = 0.0
    while True:
        if clock.fault() or time.monotonic() - since >= EVERY_SECONDS:
            try:
                clock.compared(await read())
                since = time.monotonic()
            except WorldFailure:
                pass
        await asyncio.sleep(SOON_SECONDS)
