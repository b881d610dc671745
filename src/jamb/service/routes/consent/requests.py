"""Requests for consent: made by owners and registrars, decided at the consent desk."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import Request, Response

from jamb.actions.base.act import Act
from jamb.actions.consent import request_views, requests
from jamb.core.consent.requests import RequestEvent
from jamb.service.callers import may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_position
from jamb.service.http.routing import api_router
from jamb.service.routes.consent.consent import preview_answer, terms_of
from jamb.service.routes.consent.rightsizing import dry_run_answer
from jamb.service.routes.resources.resources import change_answer
from jamb.wire.base.shapes import Page
from jamb.wire.consent import requests as wire

router = api_router("/api/v1/directories/{directory}", tags=["requests"])


@router.post("/clients/{client}/requests", status_code=201)
def make_request(
    client: str,
    sent: wire.NewRequest,
    act: Annotated[Act, may("requests.make")],
) -> wire.ConsentRequest:
    """Ask an approver to consent; it waits at the consent desk until it is due."""
    return requests.make_request(act, client, sent.asks, sent.reason, sent.answers, sent.terms_accepted)


@router.post("/clients/{client}/requests/{request}/withdrawal")
def withdraw_request(
    client: str,
    request: UUID,
    act: Annotated[Act, may("requests.withdraw")],
) -> wire.ConsentRequest:
    """Take a waiting request back."""
    return requests.withdraw_request(act, client, request)


@router.get("/requests")
def list_requests(
    act: Annotated[Act, may("requests.list")],
    http: Request,
    response: Response,
    waiting: bool = True,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.ConsentRequest]:
    """Requests that wait, the one due first before the others; or those past, latest first."""
    found, more = request_views.list_requests(
        act, waiting=waiting, mine=act.mine, after_key=unpack_position(cursor), limit=limit
    )
    following = onward(http, response, more)
    return Page[wire.ConsentRequest](items=found, next=following)


@router.get("/requests/{request}")
def read_request(request: UUID, act: Annotated[Act, may("requests.read")]) -> wire.RequestDossier:
    """One request, with what granting it would change now."""
    found = request_views.read_request(act, request, act.mine)
    return wire.RequestDossier(
        request=found.request,
        preview=preview_answer(found.preview) if found.preview is not None else None,
        rightsized=wire.Rightsized(
            dry_run=dry_run_answer(found.dry_run),
            no_longer=list(found.comparison.no_longer),
            narrower=list(found.comparison.narrower),
        )
        if found.dry_run is not None and found.comparison is not None
        else None,
        details=[wire.Detail(label=label, value=value) for label, value in found.details],
        change=change_answer(found.change) if found.change is not None else None,
    )


@router.post("/requests/{request}/decision")
def decide_request(
    request: UUID,
    sent: wire.RequestDecision,
    act: Annotated[Act, may("requests.decide")],
) -> wire.ConsentRequest:
    """Grant a request, narrowed if you will, or decline it with words. There is no default."""
    return requests.decide_request(
        act,
        request,
        RequestEvent(sent.decision),
        sent.asks,
        terms_of(sent.terms) if sent.terms is not None else None,
        sent.words,
        force=sent.force,
    )
