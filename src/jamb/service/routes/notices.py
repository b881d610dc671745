"""What people were told, and webhooks."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import Depends, Query

from jamb.actions import duties, notices, webhooks
from jamb.actions.access import Admitted
from jamb.service.callers import Now, TheOffice, may
from jamb.service.routing import api_router
from jamb.wire import notices as wire

router = api_router("/api/v1/directories/{directory}", tags=["notices"])
_ONE = "/webhooks/{webhook}"


@router.get("/notices", dependencies=[Depends(may("notices.list"))])
def list_notices(
    directory: str, office: TheOffice, limit: Annotated[int, Query(ge=1, le=500)] = 100
) -> list[wire.Notice]:
    """What people were told last, and how the letters fared; the latest first."""
    return [
        wire.Notice.model_validate(one, from_attributes=True)
        for one in notices.list_told(office.premises, directory, limit)
    ]


@router.get("/duties", dependencies=[Depends(may("duties.list"))])
def list_failing_duties(directory: str, office: TheOffice) -> list[wire.FailingDuty]:
    """What the service could not do for the directory in its rounds, why, and when it tries again."""
    return [wire.FailingDuty.model_validate(one) for one in duties.list_failing(office.premises, directory)]


@router.get("/webhooks", dependencies=[Depends(may("webhooks.list"))])
def list_webhooks(directory: str, office: TheOffice) -> list[wire.Webhook]:
    """Addresses that hear of all that is told here."""
    return [wire.Webhook.model_validate(one) for one in webhooks.list_webhooks(office.premises, directory)]


@router.post("/webhooks", status_code=201)
def add_webhook(
    sent: wire.NewWebhook, admitted: Annotated[Admitted, Depends(may("webhooks.add"))], office: TheOffice, now: Now
) -> wire.Webhook:
    """Let an address hear of everything: signed event tokens (RFC 8417) are pushed to it (RFC 8935)."""
    inner = office.settings.inner()
    made = webhooks.add_webhook(office.premises, admitted.directory, sent.url, sent.key, inner, admitted.actor, now)
    return wire.Webhook.model_validate(made)


@router.delete(_ONE)
def remove_webhook(
    webhook: UUID, admitted: Annotated[Admitted, Depends(may("webhooks.remove"))], office: TheOffice, now: Now
) -> wire.Webhook:
    """Let an address hear of nothing more."""
    gone = webhooks.remove_webhook(office.premises, admitted.directory, webhook, admitted.actor, now)
    return wire.Webhook.model_validate(gone)


@router.get(f"{_ONE}/dead", dependencies=[Depends(may("webhooks.dead"))])
def list_dead_events(directory: str, webhook: UUID, office: TheOffice) -> list[wire.DeadEvent]:
    """Events that a webhook did not take after all tries."""
    return [wire.DeadEvent.model_validate(one) for one in webhooks.list_dead(office.premises, directory, webhook)]


@router.post(f"{_ONE}/revival")
def revive(
    webhook: UUID, admitted: Annotated[Admitted, Depends(may("webhooks.revive"))], office: TheOffice, now: Now
) -> wire.Webhook:
    """Try the events that were given up anew."""
    found = webhooks.revive(office.premises, admitted.directory, webhook, admitted.actor, now)
    return wire.Webhook.model_validate(found)
