"""Clients: list, register, read the dossier."""

from __future__ import annotations

from datetime import date, timedelta
from typing import Annotated

from fastapi import Query, Request, Response

from jamb.actions import clients, registrations, usage
from jamb.actions.act import Act
from jamb.service.callers import Now, may
from jamb.service.paging import DEFAULT_LIMIT, Cursor, Limit, link_next, pack, unpack_pair
from jamb.service.routing import api_router
from jamb.store.client_lists import Attention, ClientSort
from jamb.wire import clients as wire
from jamb.wire.audit import Severity, finding_of
from jamb.wire.base import Page
from jamb.wire.reach import Reach
from jamb.wire.resources import operation_of
from jamb.wire.usage import Refusals

router = api_router("/api/v1/directories/{directory}/clients", tags=["clients"])
DAYS_OF_USE = 30


@router.get("")
def list_clients(
    act: Annotated[Act, may("clients.list")],
    request: Request,
    response: Response,
    q: Annotated[str, Query(max_length=100, description="Part of the name or purpose, or a client id")] = "",
    attention: Annotated[Attention | None, Query(description="Only clients that need this")] = None,
    sort: ClientSort = ClientSort.NAME,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Client]:
    """Clients of the directory, paged, filtered and sorted here; to whoever only owns some, those."""
    found = clients.list_clients(
        act, query=q, attention=attention, sort=sort, after=unpack_pair(cursor), limit=limit, only=act.own
    )
    following = pack(found.next) if found.next else None
    link_next(request, response, following)
    return Page[wire.Client](items=[client_answer(one) for one in found.items], next=following, total=found.total)


@router.post("", status_code=201)
def register_client(
    sent: wire.NewClient,
    act: Annotated[Act, may("clients.register")],
    request: Request,
    response: Response,
) -> wire.Client:
    """Register a client. The answer has its client id and what is left to do."""
    made = registrations.register(
        act,
        sent.name,
        sent.purpose,
        sent.kind,
        sent.owners,
        make_owner=act.own is not None,
        redirect_uris=sent.redirect_uris,
        publisher=sent.publisher,
        trial_ends_at=sent.trial_ends_at,
    )
    response.headers["Location"] = f"{request.url.path}/{made.id}"
    return client_answer(made)


@router.get("/{client}")
def read_dossier(act: Annotated[Act, may("clients.read")], client: str, now: Now) -> wire.Dossier:
    """Everything about one client: its ladder, credentials and findings."""
    found = clients.read_dossier(act, client)
    days = [(now - timedelta(days=back)).date() for back in range(DAYS_OF_USE - 1, -1, -1)]
    ladders = []
    for place in found.resources:
        rungs = [_rung_answer(view, place, days) for view in place.rungs]
        opened = sorted({name for rung in rungs for name in rung.opens})
        ladders.append(
            wire.ResourceLadder(
                resource=place.catalogue.name,
                title=place.catalogue.title,
                identifier=place.catalogue.identifier,
                object_name=place.catalogue.object_name,
                rungs=rungs,
                operations=[operation_of(place.catalogue, name) for name in opened],
            )
        )
    return wire.Dossier(
        client=client_answer(found.client),
        resources=ladders,
        credentials=list(found.credentials),
        findings=[finding_of(one) for one in found.findings],
    )


@router.put("/{client}")
def change_registration(
    client: str,
    sent: wire.RegistrationChange,
    act: Annotated[Act, may("clients.change")],
) -> wire.Client:
    """Change what a registration says."""
    changes = registrations.RegistrationChange(
        sent.name,
        sent.purpose,
        tuple(sent.redirect_uris) if sent.redirect_uris is not None else None,
        sent.publisher,
        sent.trial_ends_at,
        sent.no_trial,
    )
    done = registrations.change_registration(act, client, changes)
    return client_answer(done)


@router.post("/{client}/owners")
def change_owners(
    client: str,
    sent: wire.OwnersChange,
    act: Annotated[Act, may("owners.change")],
) -> wire.Client:
    """Add and remove owners in one step."""
    changed = registrations.change_owners(act, client, sent.add, sent.remove, sent.level)
    return client_answer(changed)


@router.post("/{client}/state")
def set_state(
    client: str,
    sent: wire.StateChange,
    act: Annotated[Act, may("clients.set-state")],
) -> wire.Client:
    """Disable a client, which cuts its tokens off, or enable it again."""
    changed = clients.set_state(act, client, sent.state, sent.reason)
    return client_answer(changed)


@router.post("/{client}/cut-off")
def cut_off(
    client: str,
    sent: wire.CutOffSent,
    act: Annotated[Act, may("clients.cut-off")],
) -> wire.CutOff:
    """Have every token that the client holds refused; new ones count."""
    return clients.cut_off(act, client, sent.reason)


@router.get("/{client}/refusals")
def list_refusals(
    act: Annotated[Act, may("refusals.list")], client: str, limit: Limit = DEFAULT_LIMIT
) -> list[Refusals]:
    """Calls of the client that protected APIs refused, latest first."""
    return usage.list_refusals(act, client, limit)


def client_answer(view: clients.ClientView) -> wire.Client:
    return wire.Client(
        id=view.id,
        name=view.name,
        purpose=view.purpose,
        kind=view.kind,
        state=view.state,
        registered_at=view.registered_at,
        registered_by=view.registered_by,
        owners=list(view.owners),
        ladder=wire.LadderCount.model_validate(view.ladder),
        credential_state=view.credential_state,
        next_end=view.next_end,
        last_used_at=view.last_used_at,
        findings=view.findings,
        worst=Severity(view.worst.word) if view.worst is not None else None,
        next_steps=list(view.next_steps),
        redirect_uris=list(view.redirect_uris),
        publisher=view.publisher,
        trial_ends_at=view.trial_ends_at,
    )


def _rung_answer(view: clients.RungView, place: clients.ResourceLadder, days: list[date]) -> wire.Rung:
    rung = view.rung
    return wire.Rung(
        permission=rung.permission,
        title=place.catalogue.permissions[rung.permission].title,
        kind=rung.kind,
        ask_id=view.ask_id,
        asked_at=rung.asked.asked_at if rung.asked else None,
        asked_by=view.asked_by,
        reason=view.reason,
        wished=Reach.model_validate(view.wished),
        holdings=list(view.holdings),
        granted_at=rung.granted.granted_at if rung.granted else None,
        granted_by=view.granted_by,
        expires_at=rung.granted.expires_at if rung.granted else None,
        used=rung.used,
        used_operations=sorted(rung.used_operations),
        opens=sorted(place.catalogue.opened_by(rung.permission)),
        last_used_at=rung.last_used_at,
        calls=wire.calls_by_day(dict(rung.calls_by_day), days),
    )
