"""What people were told, and webhooks."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import Query, Request, Response

from jamb.actions.base import duties
from jamb.actions.base.act import Act
from jamb.actions.notices import notices, webhooks
from jamb.service.callers import TheRuntime, may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_position
from jamb.service.http.routing import api_router
from jamb.wire.base.shapes import Page
from jamb.wire.notices import notices as wire

router = api_router("/api/v1/directories/{directory}", tags=["notices"])
_ONE = "/webhooks/{webhook}"


@router.get("/notices")
def list_notices(
    act: Annotated[Act, may("notices.list")],
    request: Request,
    response: Response,
    q: Annotated[str, Query(max_length=100, description="Part of what was told, or of a person's name")] = "",
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Notice]:
    """What people were told, and how the mails fared; the latest first."""
    found, after = notices.list_told(act, q, unpack_position(cursor), limit)
    return Page[wire.Notice](items=found, next=onward(request, response, after))


@router.get("/duties")
def list_failing_duties(act: Annotated[Act, may("duties.list")]) -> list[wire.FailingDuty]:
    """What the service could not do for the directory in its rounds, why, and when it tries again."""
    return duties.list_failing(act)


@router.get("/webhooks")
def list_webhooks(act: Annotated[Act, may("webhooks.list")]) -> list[wire.Webhook]:
    """Addresses that hear of all that is told here."""
    return webhooks.list_webhooks(act)


@router.post("/webhooks", status_code=201)
def add_webhook(sent: wire.NewWebhook, act: Annotated[Act, may("webhooks.add")], runtime: TheRuntime) -> wire.Webhook:
    """Let an address hear of everything: signed event tokens (RFC 8417) are pushed to it (RFC 8935)."""
    inner = runtime.settings.inner()
    return webhooks.add_webhook(act, sent.url, sent.key, inner)


@router.delete(_ONE)
def remove_webhook(webhook: UUID, act: Annotated[Act, may("webhooks.remove")]) -> wire.Webhook:
    """Let an address hear of nothing more."""
    return webhooks.remove_webhook(act, webhook)


@router.get(f"{_ONE}/dead")
def list_dead_events(act: Annotated[Act, may("webhooks.dead")], webhook: UUID) -> list[wire.DeadEvent]:
    """Events that a webhook did not take after all tries."""
    return webhooks.list_dead(act, webhook)


@router.post(f"{_ONE}/revival")
def revive(webhook: UUID, act: Annotated[Act, may("webhooks.revive")]) -> wire.Webhook:
    """Try the events that were given up anew."""
    return webhooks.revive(act, webhook)
