"""Signing in to a stand-in application on another device, by a code (RFC 8628)."""

from __future__ import annotations

import html
from typing import Any

from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response

from jamb.demo.apps.mailbox import page
from jamb.demo.apps.relying_party import Refused, RelyingParty, Visit, error_of, words_of
from jamb.demo.apps.signing_in import failed, link, remembering

GRANT = "urn:ietf:params:oauth:grant-type:device_code"


def by_code_router(party: RelyingParty) -> APIRouter:
    router = APIRouter(prefix=party.path)
    # What the issuer gave for each browser that waits (section 3.2).
    waiting: dict[str, dict[str, Any]] = {}

    @router.get("/by-code")
    async def by_code() -> Response:
        answer = await party.ask("device_authorization_endpoint", {"scope": party.scope})
        if not answer.is_success:
            return failed(party, words_of(error_of(answer)))
        cookie = party.keep(Visit())
        for forgotten in waiting.keys() - party.visits.keys():
            del waiting[forgotten]
        waiting[cookie] = answer.json()
        return remembering(party, RedirectResponse(f"{party.path}/code", 303), cookie)

    @router.get("/code")
    async def code(request: Request) -> Response:
        """Ask whether the person agreed, and say what is to be typed until then; the page comes again by itself."""
        cookie = request.cookies.get(party.cookie, "")
        visit, told = party.visits.get(cookie), waiting.get(cookie)
        if visit is None or told is None:
            return RedirectResponse(party.path, 303)
        answer = await party.ask("token_endpoint", {"grant_type": GRANT, "device_code": told["device_code"]})
        error = "" if answer.is_success else error_of(answer)
        if error in {"authorization_pending", "slow_down"}:
            # Section 3.5: five seconds more for good, where it came too often.
            told["interval"] = told.get("interval", 5) + 5 * (error == "slow_down")
            return _to_type(party, told)
        waiting.pop(cookie, None)
        try:
            if error:
                raise Refused(words_of(error))
            await party.welcome(visit, answer.json())
        except Refused as fault:
            return failed(party, str(fault))
        return RedirectResponse(party.path, 303)

    return router


def _to_type(party: RelyingParty, told: dict[str, Any]) -> HTMLResponse:
    address, whole = html.escape(told["verification_uri"]), html.escape(told["verification_uri_complete"])
    shown = page(
        party.title,
        "<h1>Sign in on another device</h1>"
        f'<p>Open <a href="{whole}" target="_blank" rel="noreferrer">{address}</a> there, and type this code:</p>'
        f'<p style="font:600 32px ui-monospace,monospace">{html.escape(told["user_code"])}</p>'
        "<p>This page goes on by itself once you have agreed.</p>" + link(party.path, "Cancel"),
    )
    shown.headers["Refresh"] = str(told["interval"])
    return shown
