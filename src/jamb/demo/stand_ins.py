"""The stand-ins in one process: guarded APIs, a mailbox, applications for people, a provider they sign in by."""

from __future__ import annotations

import json
import os
import sys
from collections.abc import AsyncIterator, Callable
from contextlib import asynccontextmanager
from pathlib import Path
from typing import Any

import httpx
import uvicorn
from fastapi import APIRouter, FastAPI, Request
from fastapi.responses import HTMLResponse

from jamb.demo.apps.berths import berths_router
from jamb.demo.apps.dispatches import dispatches_router
from jamb.demo.apps.kiosk import kiosk_router
from jamb.demo.apps.mailbox import Mailbox, mailbox_router, page
from jamb.demo.apps.relying_party import RelyingParty
from jamb.demo.apps.roster import SCOPE as ROSTER_SCOPE
from jamb.demo.apps.roster import roster_router
from jamb.demo.apps.staff import Staff, staff_router
from jamb.demo.apps.watch import SCOPE as WATCH_SCOPE
from jamb.demo.apps.watch import watch_router
from jamb.guard import Guard, add_guard_handler

_ROUTERS: dict[str, Callable[[Guard], APIRouter]] = {"berths": berths_router, "dispatches": dispatches_router}


def create_stand_ins(settings: dict[str, dict[str, str]], smtp_port: int) -> FastAPI:
    """Return the APIs, each guarded for the issuer and audience of its settings, as its own client; and the mailbox."""
    mailbox = Mailbox()
    guards = {name: Guard.for_resource(name, **settings[name]) for name in _ROUTERS}

    @asynccontextmanager
    async def life(_app: FastAPI) -> AsyncIterator[None]:
        for guard in guards.values():
            guard.start()
        smtp = mailbox.serve(smtp_port)
        yield
        smtp.stop()
        for guard in guards.values():
            guard.close()

    app = FastAPI(title="Quillhaven (stand-ins)", lifespan=life, docs_url=None, redoc_url=None)
    app.add_exception_handler(httpx.HTTPError, _not_answered)
    add_guard_handler(app, "quillhaven", guards["berths"])
    for name, router in _ROUTERS.items():
        app.include_router(router(guards[name]))
    app.include_router(mailbox_router(mailbox))
    # Records of an earlier version name none, or say less of it.
    if "api_url" in (told := settings.get("watch", {})):
        watch = RelyingParty("Watch", told["issuer"], told["client_id"], told["own_url"], WATCH_SCOPE)
        app.include_router(watch_router(watch, told["api_url"]))
    if told := settings.get("roster", {}):
        place = told["issuer"], told["client_id"], told["own_url"]
        roster = RelyingParty("Pilot roster", *place, ROSTER_SCOPE, told["client_secret"])
        app.include_router(roster_router(roster, told["api_url"], told["resource"]))
    if told := settings.get("kiosk", {}):
        app.include_router(kiosk_router(told["issuer"], told["client_id"]))
    if told := settings.get("staff", {}):
        app.include_router(staff_router(Staff(told["issuer"], told["secret"]), told["redirect_uri"]))
    return app


async def _not_answered(_request: Request, fault: Exception) -> HTMLResponse:
    """Say that what an application needs did not answer: the service, or an API."""
    said = f"What this needs does not answer as it should ({type(fault).__name__}). Look whether the demo still runs."
    shown = page("No answer", f"<h1>No answer</h1><p>{said} Then load this page anew.</p>")
    shown.status_code = 502
    return shown


def main() -> None:
    """Serve on the port given first, and mail on the second, with the settings of $JAMB_HOME/guards.json."""
    settings: dict[str, Any] = json.loads((Path(os.environ["JAMB_HOME"]) / "guards.json").read_text())
    uvicorn.run(
        create_stand_ins(settings, int(sys.argv[2])), host="127.0.0.1", port=int(sys.argv[1]), log_level="warning"
    )


if __name__ == "__main__":
    main()
