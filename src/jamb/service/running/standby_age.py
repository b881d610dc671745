"""Raise the primary's number each second, where there is a standby whose age is to be told."""

from __future__ import annotations

import asyncio

import structlog
from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError
from starlette.concurrency import run_in_threadpool

from jamb.store.connections.outages import reason_of
from jamb.store.connections.standby import Standby

EVERY_SECONDS = 1.0
_log = structlog.get_logger("jamb.pulse")


async def beating(standby: Standby | None, primary: Engine) -> None:
    """Do so for ever. While the primary is away nothing is raised, and the standby grows old."""
    while True:
        if standby is not None:
            try:
                await run_in_threadpool(standby.beat, primary)
            except SQLAlchemyError as error:
                _log.warning("the standby's age cannot be told", **reason_of(error))
        await asyncio.sleep(EVERY_SECONDS)
