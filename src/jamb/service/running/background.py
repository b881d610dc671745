"""Work that goes on in a process beside its requests, for as long as the process lives.

What ends by a mistake is begun again after a pause that grows, and counted; while it is away, and until it has gone
well for a while, the process is not ready (`service/health.py`).
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncIterator, Callable, Coroutine
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass
from typing import Any

import structlog

FIRST_PAUSE_SECONDS = 0.5
LONGEST_PAUSE_SECONDS = 30.0
# A work that has gone on for so long since it was begun again counts as well.
WELL_SECONDS = 15.0
CANCEL_AGAIN_SECONDS = 1.0
_log = structlog.get_logger("jamb.background")


@dataclass(slots=True)
class Work:
    """One kind of work. `restarts`: how often it was begun again; `began_at`: when last, None while it is not done."""

    restarts: int = 0
    began_at: float | None = None

    def is_well(self) -> bool:
        if self.began_at is None:
            return False
        return self.restarts == 0 or time.monotonic() - self.began_at >= WELL_SECONDS


class Background:
    """The background work of a process, by name."""

    def __init__(self) -> None:
        self.works: dict[str, Work] = {}

    def unwell(self) -> list[str]:
        """Return what is away, or was until lately."""
        return sorted(name for name, work in self.works.items() if not work.is_well())

    @asynccontextmanager
    async def doing(self, name: str, work: Callable[[], Coroutine[None, None, None]]) -> AsyncIterator[None]:
        """Do some work while the block lasts, whatever becomes of it."""
        self.works[name] = Work()
        task = asyncio.create_task(self._keep_on(name, work), name=name)
        try:
            yield
        finally:
            # Again until it ends: a cancellation that meets an error, or the end of a wait, is lost with it.
            while not task.done():
                task.cancel()
                await asyncio.wait([task], timeout=CANCEL_AGAIN_SECONDS)
            del self.works[name]

    async def _keep_on(self, name: str, work: Callable[[], Coroutine[None, None, None]]) -> None:
        state, pause = self.works[name], FIRST_PAUSE_SECONDS
        while True:
            state.began_at = began = time.monotonic()
            try:
                await work()
                _log.error("it ended, and is begun again", work=name)
            except Exception:  # noqa: BLE001 - whatever it is, the work must go on
                _log.exception("it stopped, and is begun again", work=name)
            if time.monotonic() - began >= WELL_SECONDS:
                pause = FIRST_PAUSE_SECONDS
            state.began_at, state.restarts = None, state.restarts + 1
            await asyncio.sleep(pause)
            pause = min(2 * pause, LONGEST_PAUSE_SECONDS)


async def ended_by_itself(work: Coroutine[Any, Any, None], seconds: float) -> None:
    """Do some work that tidies up when it is cancelled: it is cancelled once, however often this is, and has so long to
    end.
    """
    task = asyncio.create_task(work)
    try:
        await asyncio.shield(task)
    except asyncio.CancelledError:
        ends = time.monotonic() + seconds
        task.cancel()
        while not task.done() and (left := ends - time.monotonic()) > 0:
            with suppress(asyncio.CancelledError):
                await asyncio.wait([task], timeout=left)
        task.cancel()
        if task.done() and not task.cancelled() and (error := task.exception()):
            _log.info("it ended with an error as it was stopped", error=type(error).__name__)
        raise
