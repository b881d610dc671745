"""Whether this process can do its work: database, schema, sealing key, directories, clock, background work.

One look at a time, shared by all who ask; none waits longer than `READY_SECONDS` for it.
"""

from __future__ import annotations

import asyncio
from typing import TYPE_CHECKING

from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session
from starlette.concurrency import run_in_threadpool

from jamb.core.errors import WorldFailure
from jamb.service.config.sealing import sealing_fault
from jamb.store.base import sealing_marks
from jamb.store.base.migrate import schema_fault
from jamb.store.connections.outages import outage_of
from jamb.store.connections.server import is_read_only

if TYPE_CHECKING:
    from jamb.actions.base.backend import Backend
    from jamb.service.runtime import Runtime

READY_SECONDS = 1.0


class Readiness:
    def __init__(self) -> None:
        self._look: asyncio.Task[str] | None = None

    async def reason(self, runtime: Runtime) -> str:
        """Return what this process waits for; empty: it is ready."""
        unwell = runtime.background.unwell()
        if unwell:
            return f"background work is away or was until lately: {', '.join(unwell)}; see the log"
        if self._look is None or self._look.done():
            self._look = asyncio.create_task(_look(runtime))
        try:
            return await asyncio.wait_for(asyncio.shield(self._look), READY_SECONDS)
        except TimeoutError:
            return f"the database does not answer within {READY_SECONDS:.0f} second"


async def _look(runtime: Runtime) -> str:
    """Ask by both ways to the database: that of token requests and that of the administration."""
    try:
        runtime.clock.compared(await runtime.reader.moment())
        return runtime.clock.fault() or await run_in_threadpool(_asked, runtime.backend)
    except WorldFailure as away:
        return away.message


def _asked(backend: Backend) -> str:
    try:
        with Session(backend.engine) as session:
            if is_read_only(session):
                return "the database takes no changes: it is a standby, or set read-only"
            if fault := schema_fault(session):
                return fault
            if not sealing_marks.any_directory(session):
                return "there is no directory yet: run `jamb-service directories open`"
        return sealing_fault(backend.engine, backend.sealer.mark)
    except SQLAlchemyError as error:
        outage = outage_of(error)
        return outage.message if outage is not None else "the database has another schema: run `jamb-service migrate`"
