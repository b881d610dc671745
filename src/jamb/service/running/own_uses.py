"""Write what clients called of Jamb's own API, a moment later and all together."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress

import structlog
from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError
from starlette.concurrency import run_in_threadpool

from jamb.actions.base.own_uses import OwnUses
from jamb.core.errors import OutcomeUnknown
from jamb.service.running.background import Background
from jamb.store.connections.outages import reason_of

# As much is lost with a process that is killed.
EVERY_SECONDS = 1.0
_log = structlog.get_logger("jamb.own_uses")


@asynccontextmanager
async def writing_uses(background: Background, uses: OwnUses, engine: Engine) -> AsyncIterator[None]:
    """Write while the block lasts, and what is left at its end.

    `engine`: that of requests, on which no statement is long: who stops the service waits for one that is under way.
    """
    try:
        async with background.doing("own uses", lambda: _write_again_and_again(uses, engine)):
            yield
    finally:
        with suppress(SQLAlchemyError, OutcomeUnknown):
            await run_in_threadpool(uses.write, engine)


async def _write_again_and_again(uses: OwnUses, engine: Engine) -> None:
    while True:
        await asyncio.sleep(EVERY_SECONDS)
        try:
            if left_out := await run_in_threadpool(uses.write, engine):
                _log.error("uses were not written, and are left out", entries=left_out)
        except SQLAlchemyError as error:
            _log.warning("uses are not written, will try again", **reason_of(error))
        except OutcomeUnknown:
            # Perhaps they were: counted twice is better than not at all, for nothing is then called unused.
            _log.warning("it is not known whether uses were written, will try again")
