"""The pages by which a stand-in application signs people in, and what it shows of Berths."""

from __future__ import annotations

import html
from collections.abc import Iterable

import httpx
from fastapi import APIRouter, Request
from fastapi.responses import HTMLResponse, RedirectResponse, Response

from jamb.demo.apps.mailbox import page
from jamb.demo.apps.relying_party import Refused, RelyingParty, Visit


def sign_in_router(party: RelyingParty) -> APIRouter:
    router = APIRouter(prefix=party.path)

    @router.get("/sign-in")
    async def sign_in() -> Response:
        cookie, address = await party.begin()
        return remembering(party, RedirectResponse(address, 303), cookie)

    @router.get("/back")
    async def back(request: Request) -> Response:
        try:
            await party.end(party.visit(request) or Visit(), dict(request.query_params))
        except Refused as fault:
            return failed(party, str(fault))
        return RedirectResponse(party.path, 303)

    return router


def remembering(party: RelyingParty, answer: Response, cookie: str) -> Response:
    # Lax: it comes along when the person is sent back from the issuer.
    answer.set_cookie(party.cookie, cookie, httponly=True, samesite="lax", path=party.path)
    return answer


def failed(party: RelyingParty, words: str) -> HTMLResponse:
    told = f"<h1>{party.title}</h1><p>{html.escape(words)}</p>"
    return page(party.title, told + link(party.path, "Start again"))


def link(address: str, words: str) -> str:
    return f'<p><a href="{html.escape(address)}">{html.escape(words)}</a></p>'


def table_of_berths(found: httpx.Response) -> str:
    """Return the berths of an answer of the Berths API as a table, or its refusal."""
    rows = [(one["berth"], one["occupant"] or "free") for one in found.json()["items"]] if found.is_success else []
    return table(("Berth", "Ship"), rows) if found.is_success else refused("Berths", found)


def table(heads: tuple[str, ...], rows: Iterable[tuple[str, ...]]) -> str:
    head = "".join(f"<th>{one}</th>" for one in heads)
    body = "".join("<tr>" + "".join(f"<td>{html.escape(one)}</td>" for one in row) + "</tr>" for row in rows)
    return f"<table><tr>{head}</tr>{body}</table>"


def refused(what: str, found: httpx.Response) -> str:
    return f"<p>{what} refused: {html.escape(found.headers.get('WWW-Authenticate', found.text))}</p>"
