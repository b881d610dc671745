"""Work that runs beside the requests of a process, until the process ends."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Coroutine
from contextlib import asynccontextmanager, suppress

import structlog

_log = structlog.get_logger("jamb.alongside")


@asynccontextmanager
async def alongside(work: Coroutine[None, None, None], name: str) -> AsyncIterator[None]:
    """Do some work while the block lasts. If it ends by a mistake of ours, the log says so at once."""
    task = asyncio.create_task(work, name=name)
    task.add_done_callback(_tell)
    try:
        yield
    finally:
        task.cancel()
        with suppress(asyncio.CancelledError):
            await task


def _tell(task: asyncio.Task[None]) -> None:
    if not task.cancelled() and (error := task.exception()) is not None:
        _log.error("it stopped and does not go on", work=task.get_name(), exc_info=error)
