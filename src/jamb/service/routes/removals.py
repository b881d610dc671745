"""Removing and restoring clients; publishers."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends

from jamb.actions import publishers, removals
from jamb.actions.access import Admitted
from jamb.service.callers import Now, TheOffice, may
from jamb.service.paging import DEFAULT_LIMIT, Limit
from jamb.service.routes.clients import client_answer
from jamb.service.routing import api_router
from jamb.wire import removals as wire
from jamb.wire.clients import Client

router = api_router("/api/v1/directories/{directory}", tags=["clients"])


@router.get("/removals", dependencies=[Depends(may("removals.list"))])
def list_removed(directory: str, office: TheOffice, limit: Limit = DEFAULT_LIMIT) -> list[wire.Removed]:
    """Removed clients, the latest first."""
    return [_removed(one) for one in removals.list_removed(office.premises, directory, limit)]


@router.post("/removals/preview", dependencies=[Depends(may("removals.preview"))])
def preview_removal(directory: str, sent: wire.RemovalsAsked, office: TheOffice, now: Now) -> list[wire.RemovalPreview]:
    """What the removal of clients would take along, and what stands against it. Changes nothing."""
    found = removals.preview(office.premises, directory, sent.clients, now)
    return [wire.RemovalPreview.model_validate(one) for one in found]


@router.post("/clients/{client}/removal")
def remove_client(
    client: str,
    sent: wire.RemovalSent,
    admitted: Annotated[Admitted, Depends(may("clients.remove"))],
    office: TheOffice,
    now: Now,
) -> wire.Removed:
    """Remove a disabled client whose credentials are dead. It can be restored for a while."""
    return _removed(removals.remove(office.premises, admitted.directory, client, sent.reason, admitted.actor, now))


@router.post("/clients/{client}/restoration")
def restore_client(
    client: str, admitted: Annotated[Admitted, Depends(may("clients.restore"))], office: TheOffice, now: Now
) -> Client:
    """Restore a removed client, disabled, with what its removal ended."""
    return client_answer(removals.restore(office.premises, admitted.directory, client, admitted.actor, now))


@router.get("/publishers", dependencies=[Depends(may("publishers.list"))])
def list_publishers(directory: str, office: TheOffice) -> list[wire.Publisher]:
    """Publishers for which somebody here answers."""
    return [wire.Publisher.model_validate(one) for one in publishers.list_publishers(office.premises, directory)]


@router.put("/publishers/{domain}")
def vouch(
    domain: str,
    sent: wire.Vouching,
    admitted: Annotated[Admitted, Depends(may("publishers.vouch"))],
    office: TheOffice,
    now: Now,
) -> wire.Publisher:
    """Answer for a publisher, with the reason."""
    made = publishers.vouch(office.premises, admitted.directory, domain, sent.reason, admitted.actor, now)
    return wire.Publisher.model_validate(made)


@router.delete("/publishers/{domain}", status_code=204)
def disown(
    domain: str, admitted: Annotated[Admitted, Depends(may("publishers.disown"))], office: TheOffice, now: Now
) -> None:
    """Answer for a publisher no more."""
    publishers.disown(office.premises, admitted.directory, domain, admitted.actor, now)


def _removed(one: removals.Removed) -> wire.Removed:
    return wire.Removed.model_validate(one)
