"""Clients: list, register, read the dossier."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from jamb.actions.base.act import Act
from jamb.actions.clients import clients, dossier, registrations
from jamb.actions.resources import usage
from jamb.core.lists import Attention, ClientSort
from jamb.service.callers import may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_pair
from jamb.service.http.routing import api_router
from jamb.service.http.versions import tagged
from jamb.wire.base.shapes import Page
from jamb.wire.clients import clients as wire
from jamb.wire.resources.usage import Refusals

router = api_router("/api/v1/directories/{directory}/clients", tags=["clients"])


@router.get("")
def list_clients(
    act: Annotated[Act, may("clients.list")],
    request: Request,
    response: Response,
    q: Annotated[str, Query(max_length=100, description="Part of the name or purpose, or how a client id begins")] = "",
    attention: Annotated[Attention | None, Query(description="Only clients that need this")] = None,
    sort: ClientSort = ClientSort.NAME,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Client]:
    """Clients of the directory, paged, filtered and sorted here; to whoever only owns some, those."""
    found, after, total = clients.list_clients(
        act, query=q, attention=attention, sort=sort, after=unpack_pair(cursor), limit=limit, only=act.own
    )
    following = onward(request, response, after)
    return Page[wire.Client](items=found, next=following, total=total)


@router.post("", status_code=201)
def register_client(
    sent: wire.NewClient,
    act: Annotated[Act, may("clients.register")],
    request: Request,
    response: Response,
) -> wire.Client:
    """Register a client. The answer has its client id and next steps."""
    made = registrations.register(
        act,
        sent.registration(),
        sent.owners,
        make_owner=act.own is not None,
    )
    response.headers["Location"] = f"{request.url.path}/{made.id}"
    return made


@router.get("/{client}")
def read_dossier(act: Annotated[Act, may("clients.read")], client: str, response: Response) -> wire.Dossier:
    """Everything about one client: its ladder, credentials and findings. The ETag is of its registration alone."""
    found = dossier.read_dossier(act, client)
    tagged(response, found.client)
    return found


@router.put("/{client}")
def change_registration(
    client: str,
    sent: wire.RegistrationChange,
    act: Annotated[Act, may("clients.change", edits=True)],
    response: Response,
) -> wire.Client:
    """Change what a registration says."""
    return tagged(response, registrations.change_registration(act, client, sent))


@router.post("/{client}/owners")
def change_owners(
    client: str,
    sent: wire.OwnersChange,
    act: Annotated[Act, may("owners.change")],
) -> wire.Client:
    """Add and remove owners in one step."""
    return registrations.change_owners(act, client, sent.add, sent.remove, sent.level)


@router.post("/{client}/state")
def set_state(
    client: str,
    sent: wire.StateChange,
    act: Annotated[Act, may("clients.set-state")],
) -> wire.Client:
    """Disable a client, which revokes its tokens, or enable it again."""
    return clients.set_state(act, client, sent.state, sent.reason)


@router.post("/{client}/token-revocation")
def revoke_tokens(
    client: str,
    sent: wire.TokenRevocation,
    act: Annotated[Act, may("tokens.revoke")],
) -> wire.TokensRevoked:
    """Have every token that the client holds refused; new ones count."""
    return clients.revoke_tokens(act, client, sent.reason)


@router.get("/{client}/refusals")
def list_refusals(
    act: Annotated[Act, may("refusals.list")], client: str, limit: Limit = DEFAULT_LIMIT
) -> list[Refusals]:
    """Calls of the client that protected APIs refused, latest first."""
    return usage.list_refusals(act, client, limit)
