"""The stand-in pilot roster: a web application with a secret, which acts as itself and for whoever signed in.

Before anybody signs in it shows the arrivals, which it may read as itself; then the berths that it and the person may
see. Who signs out here is asked to sign out at the issuer, and who signs out there is signed out here.
"""

from __future__ import annotations

import html
from urllib.parse import parse_qsl, urlencode

import httpx
from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, JSONResponse, RedirectResponse, Response

from jamb.demo.apps.mailbox import page
from jamb.demo.apps.relying_party import Refused, RelyingParty, error_of, words_of
from jamb.demo.apps.signing_in import link, refused, sign_in_router, table, table_of_berths

SCOPE = "openid profile offline_access berths.view"
# What a logout token is about (OpenID Connect Back-Channel Logout, section 2.4).
_SIGNED_OUT = "http://schemas.openid.net/event/backchannel-logout"


def roster_router(roster: RelyingParty, api_url: str, resource: str) -> APIRouter:
    """`api_url`: where the Berths API answers; `resource`: its identifier (RFC 8707)."""
    router = APIRouter()
    router.include_router(sign_in_router(roster))

    @router.get(roster.path)
    async def arrivals_and_berths(request: Request) -> HTMLResponse:
        visit = roster.visit(request)
        shown = await _arrivals(roster, api_url, resource)
        if visit is None or not visit.tokens:
            return page(roster.title, f"<h1>{roster.title}</h1>{link('/roster/sign-in', 'Sign in')}{shown}")
        lying = table_of_berths(await roster.call(visit, f"{api_url}/berths?limit=50"))
        head = f"<h1>{roster.title} of {html.escape(visit.name)}</h1>{link('/roster/leave', 'Sign out')}"
        return page(roster.title, f"{head}{shown}<h2>Berths</h2>{lying}")

    @router.get(f"{roster.path}/leave")
    async def leave(request: Request) -> Response:
        """Forget the person here, and send them to the issuer (OpenID Connect RP-Initiated Logout, section 2)."""
        visit = await roster.leave(request.cookies.get(roster.cookie, ""))
        if visit is None or not visit.tokens:
            return RedirectResponse(roster.path, 303)
        async with httpx.AsyncClient(timeout=10) as http:
            found = await roster.metadata(http)
        asked = {
            "id_token_hint": visit.tokens["id_token"],
            "client_id": roster.client_id,
            "post_logout_redirect_uri": roster.own_url,
        }
        return RedirectResponse(f"{found['end_session_endpoint']}?{urlencode(asked)}", 303)

    @router.post(f"{roster.path}/signed-out")
    async def signed_out(request: Request) -> Response:
        """Hear that a sign-in ended at the issuer (OpenID Connect Back-Channel Logout, sections 2.5 to 2.8)."""
        form = dict(parse_qsl((await request.body()).decode()))
        try:
            claims = await roster.checked(form.get("logout_token", ""))
        except Refused:
            claims = {}
        if _SIGNED_OUT not in claims.get("events", {}) or "nonce" in claims or not claims.get("sid"):
            return JSONResponse({"error": "invalid_request"}, 400)
        for cookie in [one for one, visit in roster.visits.items() if visit.signed_in == claims["sid"]]:
            del roster.visits[cookie]
        return Response(headers={"Cache-Control": "no-store"})

    return router


async def _arrivals(roster: RelyingParty, api_url: str, resource: str) -> str:
    """Return the arrivals as a table, read by the application as itself (RFC 6749, section 4.4)."""
    form = {"grant_type": "client_credentials", "resource": resource, "scope": "arrivals.view"}
    told = await roster.ask("token_endpoint", form)
    if not told.is_success:
        return f"<p>No token: {html.escape(words_of(error_of(told)))}</p>"
    bearer = {"Authorization": f"Bearer {told.json()['access_token']}"}
    async with httpx.AsyncClient(timeout=10) as http:
        found = await http.get(f"{api_url}/arrivals", headers=bearer)
    if not found.is_success:
        return refused("Arrivals", found)
    rows = [(f"{one['hour']:02}:00", one["ship"], one["quay"]) for one in found.json()["items"]]
    return "<h2>Arrivals</h2>" + table(("Hour", "Ship", "Quay"), rows)
