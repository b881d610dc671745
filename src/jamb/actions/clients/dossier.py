"""A client's dossier: what it asks, holds and uses at each resource, its credentials and what is wrong with it."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import date, datetime, timedelta
from uuid import UUID

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, load_one
from jamb.actions.base.views import credential_view
from jamb.actions.clients.clients import client_view
from jamb.actions.entry.access import may_with
from jamb.core.audit.picture import ResourcePicture
from jamb.core.ladder import Rung
from jamb.core.permissions import AccessKind
from jamb.core.reach import EVERYWHERE
from jamb.core.reach.details import reach_of
from jamb.store.audit.client_facts import LoadedClient
from jamb.store.clients.clients import AskRow
from jamb.store.directory import people
from jamb.wire.audit.audit import finding_of
from jamb.wire.clients import clients as wire
from jamb.wire.resources.reach import Reach
from jamb.wire.resources.resources import operation_of

DAYS_OF_USE = 30


def read_dossier(act: Act, client_id: str) -> wire.Dossier:
    """Return everything about one client. Raises `NotFound`."""
    with act.read() as session:
        loaded = load_one(session, act.directory, find_client(session, act.directory, client_id), act.now)
        names = people.names_of(session, (grant.person_id for grant in loaded.grants))
        may = may_with(session, act, loaded.row.id)
    return wire.Dossier(
        client=client_view(act.directory, loaded, act.now),
        resources=[
            _ladder(loaded, resource, resource_id, names, act.now)
            for resource_id, resource in zip(loaded.resource_ids, loaded.picture.resources, strict=True)
        ],
        credentials=[credential_view(row, act.now, act.directory.policy) for row in loaded.credentials],
        findings=[finding_of(found) for found in loaded.findings(act.directory.policy, act.now)],
        may=may,
    )


def _ladder(
    loaded: LoadedClient, resource: ResourcePicture, resource_id: UUID, names: Mapping[UUID | None, str], now: datetime
) -> wire.ResourceLadder:
    catalogue = resource.catalogue
    days = [(now - timedelta(days=back)).date() for back in range(DAYS_OF_USE - 1, -1, -1)]
    asks = {(ask.permission, ask.kind): ask for ask in loaded.asks if ask.resource_id == resource_id}
    rungs = [
        _rung(
            resource,
            rung,
            asks.get((rung.permission, rung.kind.value)),
            _by_consent(loaded, resource_id, rung, names, now) + _by_role(loaded, resource_id, rung, now),
            days,
        )
        for rung in resource.rungs
    ]
    return wire.ResourceLadder(
        resource=catalogue.name,
        title=catalogue.title,
        identifier=catalogue.identifier,
        object_name=catalogue.object_name,
        uncounted_until=resource.uncounted_until,
        rungs=rungs,
        operations=[operation_of(catalogue, name) for name in sorted({name for rung in rungs for name in rung.opens})],
    )


def _by_consent(
    loaded: LoadedClient, resource_id: UUID, rung: Rung, names: Mapping[UUID | None, str], now: datetime
) -> list[wire.Holding]:
    return [
        wire.Holding(
            reach=reach_of(grant.reach),
            granted_at=grant.granted_at,
            expires_at=grant.expires_at,
            granted_by=grant.granted_by,
            person_id=grant.person_id,
            person=names[grant.person_id],
            by_person=grant.by_person,
            through="",
        )
        for grant in loaded.grants
        if grant.held().in_force(now)
        and (grant.resource_id, grant.permission, grant.kind) == (resource_id, rung.permission, rung.kind)
    ]


def _by_role(loaded: LoadedClient, resource_id: UUID, rung: Rung, now: datetime) -> list[wire.Holding]:
    return [
        wire.Holding(
            reach=reach_of(held.reach),
            granted_at=held.assigned_at,
            expires_at=held.expires_at,
            granted_by=held.assigned_by,
            person_id=None,
            person="",
            by_person=False,
            through=role.name,
        )
        for held, role in loaded.roles
        if held.assigned_at <= now
        and (held.expires_at is None or now < held.expires_at)
        and role.resource_id == resource_id
        and rung.permission in role.permissions
        and rung.kind is AccessKind.APPLICATION
    ]


def _rung(
    resource: ResourcePicture, rung: Rung, ask: AskRow | None, holdings: list[wire.Holding], days: list[date]
) -> wire.Rung:
    by_day = dict(rung.calls_by_day)
    return wire.Rung(
        permission=rung.permission,
        title=resource.catalogue.permissions[rung.permission].title,
        kind=rung.kind,
        ask_id=ask.id if ask else None,
        asked_at=rung.asked.asked_at if rung.asked else None,
        asked_by=ask.asked_by if ask else "",
        reason=ask.reason if ask else "",
        wished=Reach.model_validate(reach_of(ask.reach) if ask else EVERYWHERE),
        holdings=holdings,
        granted_at=rung.granted.granted_at if rung.granted else None,
        granted_by=holdings[0].granted_by if holdings else "",
        expires_at=rung.granted.expires_at if rung.granted else None,
        used=rung.used,
        used_operations=sorted(rung.used_operations),
        opens=sorted(resource.catalogue.opened_by(rung.permission)),
        last_used_at=rung.last_used_at,
        calls=[by_day.get(day, 0) for day in days],
    )
