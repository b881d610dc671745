"""Alive, and ready: two questions that a supervisor asks."""

from __future__ import annotations

from fastapi import Response

from jamb.service.callers import TheRuntime
from jamb.service.http.routing import api_router

router = api_router(tags=["health"])


@router.get("/health")
def alive() -> dict[str, str]:
    """The process answers."""
    return {"status": "alive"}


@router.get("/ready", responses={503: {"description": "Not ready; `reason` says why", "model": dict[str, str]}})
async def ready(runtime: TheRuntime, response: Response) -> dict[str, str]:
    """The database answers and has the schema this version needs, and the process does all of its work."""
    reason = await runtime.readiness.reason(runtime)
    if reason:
        response.status_code = 503
        return {"status": "waiting", "reason": reason}
    return {"status": "ready"}
