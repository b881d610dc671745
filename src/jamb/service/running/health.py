"""Alive, and ready: two questions that a supervisor asks."""

from __future__ import annotations

from datetime import UTC, datetime

from fastapi import Response
from sqlalchemy.exc import SQLAlchemyError

from jamb.actions.directory.opening import directories_there
from jamb.service.callers import TheRuntime
from jamb.service.http.routing import api_router
from jamb.service.sealing import sealing_fault
from jamb.store.base.engine import outage_of
from jamb.store.base.migrate import current_revision, newest_revision

router = api_router(tags=["health"])


@router.get("/health")
def alive() -> dict[str, str]:
    """The process answers."""
    return {"status": "alive"}


@router.get("/ready", responses={503: {"description": "Not ready; `reason` says why", "model": dict[str, str]}})
def ready(runtime: TheRuntime, response: Response) -> dict[str, str]:
    """The database answers and has the schema this version needs, and the process does all of its work."""
    reason = _waits_for(runtime)
    if reason:
        response.status_code = 503
        return {"status": "waiting", "reason": reason}
    return {"status": "ready"}


def _waits_for(runtime: TheRuntime) -> str:
    try:
        revision = current_revision(runtime.backend.engine)
    except SQLAlchemyError as error:
        outage = outage_of(error)
        return outage.message if outage is not None else "the database was never migrated: run `jamb-service migrate`"
    if revision != newest_revision():
        return "the schema is not current: run `jamb-service migrate`"
    backend = runtime.backend
    fault = sealing_fault(backend.engine, backend.sealer, datetime.now(UTC))
    if fault:
        return fault
    if not directories_there(backend):
        return "there is no directory yet: run `jamb-service directories open`"
    unwell = runtime.background.unwell()
    return f"background work is away or was until lately: {', '.join(unwell)}; see the log" if unwell else ""
