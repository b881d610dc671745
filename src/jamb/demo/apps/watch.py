"""The stand-in watch tablet: signs people in by Jamb, on the tablet or by a code on another device, and shows berths.

It is a public client and has no secret: PKCE binds each code to whoever asked for it (RFC 7636).
"""

from __future__ import annotations

import html

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response

from jamb.demo.apps.by_code import by_code_router
from jamb.demo.apps.mailbox import page
from jamb.demo.apps.relying_party import RelyingParty
from jamb.demo.apps.signing_in import link, sign_in_router, table_of_berths

SCOPE = "openid profile offline_access berths.view"


def watch_router(watch: RelyingParty, api_url: str) -> APIRouter:
    router = APIRouter()
    router.include_router(sign_in_router(watch))
    router.include_router(by_code_router(watch))

    @router.get(watch.path)
    async def board(request: Request) -> HTMLResponse:
        visit = watch.visit(request)
        if visit is None or not visit.tokens:
            ways = link("/watch/sign-in", "Sign in") + link("/watch/by-code", "Use another device")
            return page("Watch", f"<h1>Watch</h1><p>See which ship lies where, as you may.</p>{ways}")
        shown = table_of_berths(await watch.call(visit, f"{api_url}/berths?limit=50"))
        return page("Watch", f"<h1>Watch of {html.escape(visit.name)}</h1>{shown}" + link("/watch/leave", "Leave"))

    @router.get(f"{watch.path}/leave")
    async def leave(request: Request) -> Response:
        await watch.leave(request.cookies.get(watch.cookie, ""))
        return RedirectResponse(watch.path, 303)

    return router
