"""The stand-in watch: a small application that signs people in by Jamb and looks at Berths for them.

It is a public client and has no secret: PKCE binds each code to whoever asked for it (RFC 7636). What it holds of a
person stays here, under a cookie; the browser never sees a token.
"""

from __future__ import annotations

import base64
import hashlib
import html
import secrets
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlencode

import httpx
from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response

from jamb.demo.apps.mailbox import page

COOKIE = "watch"
SCOPE = "openid profile offline_access berths.view"
MOST_KEPT = 500


@dataclass
class Visit:
    """What is known of a browser: the sign-in that it began, or the tokens of the person."""

    state: str = ""
    verifier: str = ""
    tokens: dict[str, Any] = field(default_factory=dict)
    name: str = ""


@dataclass
class Watch:
    """`issuer` and `client_id` are all that it was told; the rest it finds in the issuer's metadata."""

    issuer: str
    client_id: str
    own_url: str
    visits: dict[str, Visit] = field(default_factory=dict)

    @property
    def back(self) -> str:
        return f"{self.own_url}/watch/back"

    async def metadata(self, http: httpx.AsyncClient) -> dict[str, Any]:
        found = await http.get(f"{self.issuer}/.well-known/openid-configuration")
        told: dict[str, Any] = found.raise_for_status().json()
        return told

    def visit(self, request: Request) -> Visit | None:
        return self.visits.get(request.cookies.get(COOKIE, ""))

    def begin(self, metadata: dict[str, Any]) -> tuple[str, str]:
        """Return a fresh cookie, and where the person goes to sign in."""
        while len(self.visits) >= MOST_KEPT:
            self.visits.pop(next(iter(self.visits)))
        cookie, made = secrets.token_urlsafe(24), Visit(secrets.token_urlsafe(16), secrets.token_urlsafe(48))
        self.visits[cookie] = made
        challenge = base64.urlsafe_b64encode(hashlib.sha256(made.verifier.encode()).digest()).rstrip(b"=").decode()
        asked = {
            "response_type": "code",
            "client_id": self.client_id,
            "redirect_uri": self.back,
            "scope": SCOPE,
            "state": made.state,
            "code_challenge": challenge,
            "code_challenge_method": "S256",
        }
        return cookie, f"{metadata['authorization_endpoint']}?{urlencode(asked)}"


def watch_router(watch: Watch) -> APIRouter:
    router = APIRouter(prefix="/watch")

    @router.get("")
    async def board(request: Request) -> HTMLResponse:
        visit = watch.visit(request)
        if visit is None or not visit.tokens:
            return page(
                "Watch",
                "<h1>Watch</h1><p>See which ship lies where, as you may.</p>" + _link("/watch/sign-in", "Sign in"),
            )
        async with httpx.AsyncClient(timeout=10) as http:
            bearer = {"Authorization": f"Bearer {visit.tokens['access_token']}"}
            found = await http.get(f"{watch.own_url}/berths", headers=bearer)
            if found.status_code == httpx.codes.UNAUTHORIZED and await _refresh(watch, http, visit):
                bearer = {"Authorization": f"Bearer {visit.tokens['access_token']}"}
                found = await http.get(f"{watch.own_url}/berths", headers=bearer)
        return page(
            "Watch", f"<h1>Watch of {html.escape(visit.name)}</h1>{_shown(found)}" + _link("/watch/leave", "Leave")
        )

    @router.get("/sign-in")
    async def sign_in() -> Response:
        async with httpx.AsyncClient(timeout=10) as http:
            cookie, address = watch.begin(await watch.metadata(http))
        answer = RedirectResponse(address, 303)
        # Lax: it comes along when the person is sent back from the issuer.
        answer.set_cookie(COOKIE, cookie, httponly=True, samesite="lax", path="/watch")
        return answer

    @router.get("/back")
    async def back(request: Request, state: str = "", code: str = "", iss: str = "", error: str = "") -> Response:
        visit = watch.visit(request)
        # RFC 9700 section 4.7 and RFC 9207: the answer is to what this browser asked, and from whom it asked.
        if visit is None or not visit.state or not secrets.compare_digest(state, visit.state) or iss != watch.issuer:
            return page(
                "Watch",
                "<h1>Watch</h1><p>This answer belongs to no sign-in of this browser.</p>"
                + _link("/watch", "Start again"),
            )
        visit.state = ""
        fault = _words_of(error) or await _redeem(watch, visit, code)
        if fault:
            return page("Watch", f"<h1>Watch</h1><p>{fault}</p>" + _link("/watch/sign-in", "Sign in"))
        return RedirectResponse("/watch", 303)

    @router.get("/leave")
    async def leave(request: Request) -> Response:
        visit = watch.visits.pop(request.cookies.get(COOKIE, ""), None)
        if visit is not None and visit.tokens:
            async with httpx.AsyncClient(timeout=10) as http:
                found = await watch.metadata(http)
                form = {"token": visit.tokens["refresh_token"], "client_id": watch.client_id}
                await http.post(found["revocation_endpoint"], data=form)
        return RedirectResponse("/watch", 303)

    return router


def _words_of(error: str) -> str:
    if not error:
        return ""
    return "You did not allow it." if error == "access_denied" else f"The answer was: {html.escape(error)}."


async def _redeem(watch: Watch, visit: Visit, code: str) -> str:
    """Fetch the tokens of a code, and the person's name; return what went wrong, or nothing."""
    try:
        async with httpx.AsyncClient(timeout=10) as http:
            await _fetch(watch, http, visit, code)
    except httpx.HTTPError as fault:
        return f"The issuer did not give a token: {type(fault).__name__}."
    return ""


async def _fetch(watch: Watch, http: httpx.AsyncClient, visit: Visit, code: str) -> None:
    found = await watch.metadata(http)
    form = {
        "grant_type": "authorization_code",
        "code": code,
        "code_verifier": visit.verifier,
        "redirect_uri": watch.back,
        "client_id": watch.client_id,
    }
    visit.tokens = (await http.post(found["token_endpoint"], data=form)).raise_for_status().json()
    bearer = {"Authorization": f"Bearer {visit.tokens['access_token']}"}
    visit.name = (await http.get(found["userinfo_endpoint"], headers=bearer)).raise_for_status().json()["name"]


async def _refresh(watch: Watch, http: httpx.AsyncClient, visit: Visit) -> bool:
    found = await watch.metadata(http)
    form = {
        "grant_type": "refresh_token",
        "refresh_token": visit.tokens["refresh_token"],
        "client_id": watch.client_id,
    }
    answer = await http.post(found["token_endpoint"], data=form)
    if answer.is_success:
        visit.tokens |= answer.json()
    return answer.is_success


def _link(address: str, words: str) -> str:
    return f'<p><a href="{address}">{words}</a></p>'


def _shown(found: httpx.Response) -> str:
    if not found.is_success:
        return f"<p>Berths refused: {html.escape(found.headers.get('WWW-Authenticate', found.text))}</p>"
    rows = "".join(
        f"<tr><td>{html.escape(one['berth'])}</td><td>{html.escape(one['occupant'] or 'free')}</td></tr>"
        for one in found.json()["items"]
    )
    return f"<table><tr><th>Berth</th><th>Ship</th></tr>{rows}</table>"
