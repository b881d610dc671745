"""Removing and restoring clients; publishers."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from jamb.actions.base.act import Act
from jamb.actions.clients import publishers, removals
from jamb.service.callers import may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_latest
from jamb.service.http.routing import api_router
from jamb.wire.base.shapes import Page
from jamb.wire.clients import removals as wire
from jamb.wire.clients.clients import Client

router = api_router("/api/v1/directories/{directory}", tags=["clients"])


@router.get("/removals")
def list_removed(
    act: Annotated[Act, may("removals.list")],
    request: Request,
    response: Response,
    q: Annotated[str, Query(max_length=100, description="Part of the name, or how a client id begins")] = "",
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Removed]:
    """Removed clients, the latest first."""
    found, after, total = removals.list_removed(act, q, unpack_latest(cursor), limit)
    return Page[wire.Removed](items=found, next=onward(request, response, after), total=total)


@router.post("/removals/preview")
def preview_removal(
    act: Annotated[Act, may("removals.preview")], sent: wire.RemovalsAsked
) -> list[wire.RemovalPreview]:
    """What the removal of clients would take along, and what stands against it. Changes nothing."""
    return removals.preview(act, sent.clients)


@router.post("/clients/{client}/removal")
def remove_client(
    client: str,
    sent: wire.RemovalSent,
    act: Annotated[Act, may("clients.remove")],
) -> wire.Removed:
    """Remove a disabled client whose credentials are dead. It can be restored for a while."""
    return removals.remove(act, client, sent.reason)


@router.post("/clients/{client}/restoration")
def restore_client(client: str, act: Annotated[Act, may("clients.restore")]) -> Client:
    """Restore a removed client, disabled, with what its removal ended."""
    return removals.restore(act, client)


@router.get("/publishers")
def list_publishers(act: Annotated[Act, may("publishers.list")]) -> list[wire.Publisher]:
    """Publishers for which somebody here answers."""
    return [wire.Publisher.model_validate(one) for one in publishers.list_publishers(act)]


@router.put("/publishers/{domain}")
def vouch(
    domain: str,
    sent: wire.Vouching,
    act: Annotated[Act, may("publishers.vouch")],
) -> wire.Publisher:
    """Answer for a publisher, with the reason."""
    made = publishers.vouch(act, domain, sent.reason)
    return wire.Publisher.model_validate(made)


@router.delete("/publishers/{domain}", status_code=204)
def disown(domain: str, act: Annotated[Act, may("publishers.disown")]) -> None:
    """Answer for a publisher no more."""
    publishers.disown(act, domain)
