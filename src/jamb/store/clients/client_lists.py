"""The list of clients: filtered, ordered, page by page."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Text
from sqlmodel import Session, col

from jamb.core.audit.rules.credentials import DORMANT
from jamb.core.audit.rules.registration import STARTS_WITHIN
from jamb.core.clients.clients import ClientKind
from jamb.core.credentials.lookup import credential_meant
from jamb.core.lists import Attention, ClientSort
from jamb.core.nearest_names import SHORTEST_BEGINNING
from jamb.core.permissions import AccessKind
from jamb.store.base import pages
from jamb.store.base.columns import MOMENT, among, has, one_of, parameter
from jamb.store.base.reading import Reading
from jamb.store.clients.clients import AskRow, ClientOwnerRow, ClientRow, GrantRow, stands
from jamb.store.clients.grant_type_use import GrantTypeRow
from jamb.store.credentials.credentials import CredentialRow, having_credential, works
from jamb.store.directory.roles import AssignmentRow, RoleRow, in_force

# What sorts last when there is nothing to sort by.
_NEVER = sa.literal(datetime(9999, 1, 1, tzinfo=UTC), sa.DateTime(timezone=True))
_GOT_BY = col(GrantTypeRow.client_id) == ClientRow.id
_LONG_AGO = sa.literal(datetime(1, 1, 2, tzinfo=UTC), sa.DateTime(timezone=True))


def list_page(  # noqa: PLR0913 - what the list can be asked for, by name
    session: Session,
    directory_id: UUID,
    *,
    now: datetime,
    notice: timedelta,
    query: str,
    attention: Attention | None,
    sort: ClientSort,
    after: tuple[str, str] | None,
    limit: int,
    only: Iterable[str] | None = None,
) -> tuple[list[tuple[str, str]], int]:
    """Return (id, sort value as text) of one page after a cursor, and how many clients match in all."""
    key = _sort_key(sort, now)
    wanted = sa.select(col(ClientRow.id), key.label("key")).where(
        col(ClientRow.directory_id) == directory_id, ~col(ClientRow.builtin), col(ClientRow.state) != "removed"
    )
    if only is not None:
        wanted = wanted.where(among(ClientRow.id, only))
    if query:
        meant = credential_meant(query)
        mine, begins = col(ClientRow.id), query.strip().lower()
        wanted = wanted.where(
            has(ClientRow.name, query)
            | has(ClientRow.purpose, query)
            | (mine.startswith(begins, autoescape=True) if len(begins) >= SHORTEST_BEGINNING else mine == begins)
            | (col(ClientRow.id).in_(having_credential(meant)) if meant is not None else sa.false())
        )
    if attention is not None:
        wanted = wanted.where(_needs(attention, now, notice))
    total = pages.count_of(session, wanted)
    if after is not None:
        value = sa.cast(sa.literal(after[0]), key.type)
        wanted = wanted.where(sa.tuple_(key, col(ClientRow.id)) > sa.tuple_(value, sa.literal(after[1])))
    rows = session.execute(wanted.order_by(key, col(ClientRow.id)).limit(limit)).all()
    return [(row.id, row.key.isoformat() if isinstance(row.key, datetime) else row.key) for row in rows], total


def _sort_key(sort: ClientSort, now: datetime) -> sa.ColumnElement[Any]:
    if sort is ClientSort.NAME:
        return sa.type_coerce(col(ClientRow.folded_name), Text)
    if sort is ClientSort.REGISTERED:
        return sa.type_coerce(col(ClientRow.registered_at), sa.DateTime(timezone=True))
    mine = col(CredentialRow.client_id) == ClientRow.id
    if sort is ClientSort.EXPIRY:
        soonest = sa.select(sa.func.min(col(CredentialRow.expires_at))).where(mine, works(now))
        return sa.func.coalesce(soonest.correlate(ClientRow).scalar_subquery(), _NEVER)
    proved = sa.select(sa.func.max(col(CredentialRow.last_used_at))).where(mine)
    got_one = sa.select(sa.func.max(col(GrantTypeRow.last_at))).where(_GOT_BY)
    latest = sa.func.greatest(*(one.correlate(ClientRow).scalar_subquery() for one in (proved, got_one)))
    # Unused first: whoever sorts by use looks for what nobody uses.
    return sa.func.coalesce(latest, _LONG_AGO)


def _needs(  # noqa: PLR0911 - one condition for each of a closed list
    attention: Attention, now: datetime, notice: timedelta
) -> sa.ColumnElement[bool]:
    mine, ends = col(CredentialRow.client_id) == ClientRow.id, col(CredentialRow.expires_at)
    match attention:
        case Attention.WAITING:
            return sa.exists().where(col(AskRow.client_id) == ClientRow.id, waits(now))
        case Attention.EXPIRING:
            return sa.exists().where(mine, works(now), ends <= now + notice)
        case Attention.EXPIRED_CREDENTIAL:
            return sa.exists().where(mine, col(CredentialRow.withdrawn_at).is_(None), ends <= now)
        case Attention.DORMANT:
            # As the audit has it: it got no token for that long, or ever since it was registered. One that acts for
            # people alone has no credential.
            proved = sa.exists().where(mine, col(CredentialRow.last_used_at) > now - DORMANT)
            got_one = sa.exists().where(_GOT_BY, col(GrantTypeRow.last_at) > now - DORMANT)
            return ~proved & ~got_one & (col(ClientRow.registered_at) <= now - STARTS_WITHIN)
        case Attention.DISABLED:
            return col(ClientRow.state) == "disabled"
        case Attention.UNFINISHED:
            return _unfinished()
        case Attention.OWNERLESS:
            return ~sa.exists().where(col(ClientOwnerRow.client_id) == ClientRow.id)


def waits(now: datetime | sa.BindParameter[datetime]) -> sa.ColumnElement[bool]:
    """Return the condition of an ask that waits, as the ladder counts: neither a consent nor a role gives it now."""
    consented = sa.exists().where(
        col(GrantRow.granted_at) <= now,
        stands(now),
        col(GrantRow.client_id) == AskRow.client_id,
        col(GrantRow.resource_id) == AskRow.resource_id,
        col(GrantRow.permission) == AskRow.permission,
        col(GrantRow.kind) == AskRow.kind,
    )
    by_role = sa.exists().where(
        col(AssignmentRow.client_id) == AskRow.client_id,
        col(AssignmentRow.role_id) == RoleRow.id,
        col(RoleRow.resource_id) == AskRow.resource_id,
        col(AskRow.permission) == sa.any_(col(RoleRow.permissions)),
        in_force(now),
    )
    return ~consented & ~(by_role & (col(AskRow.kind) == AccessKind.APPLICATION.value))


@dataclass(frozen=True, slots=True)
class WaitingAsk:
    client_id: str
    client_name: str
    permission: str
    asked_at: datetime


def waiting_asks(client_ids: Iterable[str], now: datetime) -> Reading[list[WaitingAsk]]:
    """The asks of some clients that wait for consent, by permission."""
    return Reading(
        _waiting_asks(),
        {"waiting_clients": list(client_ids), "now": now},
        lambda rows: [WaitingAsk(*row) for row in rows],
    )


@cache
def _waiting_asks() -> sa.Select[Any]:
    columns: list[Any] = [col(AskRow.client_id), col(ClientRow.name), col(AskRow.permission), col(AskRow.asked_at)]
    return (
        sa.select(*columns)
        .join(ClientRow, col(ClientRow.id) == col(AskRow.client_id))
        .where(one_of(AskRow.client_id, "waiting_clients"), waits(parameter("now", MOMENT)))
        .order_by(col(AskRow.permission))
    )


def _unfinished() -> sa.ColumnElement[bool]:
    """Return the condition of a live client that asks for nothing and holds nothing, or cannot prove itself."""
    wants = sa.or_(*(sa.exists().where(col(row.client_id) == ClientRow.id) for row in (AskRow, GrantRow)))
    by_role = sa.exists().where(col(AssignmentRow.client_id) == ClientRow.id)
    confidential = among(ClientRow.kind, [kind.value for kind in ClientKind if kind.confidential])
    proves = sa.exists().where(col(CredentialRow.client_id) == ClientRow.id) | ~confidential
    return (col(ClientRow.state) == "live") & ~((wants | by_role) & proves)
