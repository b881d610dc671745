"""The stand-in berth kiosk: a page alone in a browser, which signs its guide in and calls Berths."""

from __future__ import annotations

import html
from pathlib import Path
from urllib.parse import urlsplit

from fastapi import APIRouter
from fastapi.responses import FileResponse, HTMLResponse

from jamb.demo.apps.mailbox import page

_SCRIPT = Path(__file__).with_name("kiosk.js")


def kiosk_router(issuer: str, client_id: str) -> APIRouter:
    router = APIRouter(prefix="/kiosk")
    at = urlsplit(issuer)
    # Only its own script runs, and it talks to this site and the issuer alone: no token goes anywhere else.
    policy = (
        "default-src 'none'; script-src 'self'; style-src 'unsafe-inline'; "
        f"connect-src 'self' {at.scheme}://{at.netloc}; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
    )

    @router.get("")
    def kiosk() -> HTMLResponse:
        told = f'data-issuer="{html.escape(issuer)}" data-client="{html.escape(client_id)}"'
        body = f"<h1>Berths today</h1><main {told}></main>" + '<script type="module" src="/kiosk/kiosk.js"></script>'
        answer = page("Berth kiosk", body)
        answer.headers["Content-Security-Policy"] = policy
        return answer

    @router.get("/kiosk.js")
    def script() -> FileResponse:
        return FileResponse(_SCRIPT, media_type="text/javascript", headers={"Cache-Control": "no-cache"})

    return router
