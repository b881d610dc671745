"""What a line of the list says of each client: what was kept when it was last looked at, and what changes by use.

A handful of statements for a page, each by an index, so that a page costs the same in a large directory. Of a client
that changed since it was looked at nothing is kept: `load` leaves it out, and it is to be read whole
(`store.audit.client_facts`).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Any

import sqlalchemy as sa
from sqlmodel import Session, col

from jamb.core.clients.clients import ClientState
from jamb.core.credentials.term import CredentialState, state_of
from jamb.core.ladder import LadderCount
from jamb.store.audit.findings import AuditStaleRow, AuditStateRow, FindingRow
from jamb.store.base.columns import among
from jamb.store.clients import clients
from jamb.store.clients.client_lists import waiting_asks
from jamb.store.clients.clients import ClientRow
from jamb.store.credentials.credentials import CredentialRow
from jamb.store.resources.usage import UsageRow


@dataclass(frozen=True, slots=True)
class Term:
    """How long a credential counts, and when it was used last."""

    state: CredentialState
    expires_at: datetime | None
    last_used_at: datetime | None


@dataclass(frozen=True, slots=True)
class Line:
    """What a list says of a client beside its registration. `waiting`: permissions. `worst`: a severity's number."""

    row: ClientRow
    owners: Sequence[clients.Owned]
    ladder: LadderCount
    waiting: Sequence[str]
    terms: Sequence[Term]
    used_at: datetime | None
    findings: int
    worst: int | None


def load(session: Session, client_ids: Sequence[str], now: datetime, warn: timedelta) -> dict[str, Line]:
    """Return the lines of those of these clients that did not change since they were looked at."""
    rows = _rows(session, client_ids, now)
    ids = list(rows)
    owners, terms = clients.owners_of(session, ids), _terms(session, ids, now, warn)
    waiting = _waiting(session, [key for key, (_, ladder) in rows.items() if ladder.waiting], now)
    used, found = _used(session, ids), _findings(session, ids, now)
    return {
        key: Line(
            row=row,
            owners=owners.get(key, ()),
            ladder=ladder,
            waiting=waiting.get(key, ()),
            terms=terms.get(key, ()),
            used_at=used.get(key),
            findings=found.get(key, (0, 0))[0],
            worst=found[key][1] if key in found else None,
        )
        for key, (row, ladder) in rows.items()
    }


def _rows(session: Session, client_ids: Sequence[str], now: datetime) -> dict[str, tuple[ClientRow, LadderCount]]:
    state = AuditStateRow
    changed = sa.exists().where(col(AuditStaleRow.client_id) == ClientRow.id)
    read = (
        sa.select(ClientRow, *(col(kept) for kept in (state.asked, state.granted, state.used, state.waiting)))
        .join(state, col(state.client_id) == col(ClientRow.id))
        .where(
            among(ClientRow.id, client_ids),
            col(ClientRow.state) != ClientState.REMOVED.value,
            ~changed,
            col(state.next_at).is_(None) | (col(state.next_at) > now),
        )
    )
    return {row[0].id: (row[0], LadderCount(*row[1:])) for row in session.execute(read)}


def _terms(session: Session, client_ids: Iterable[str], now: datetime, warn: timedelta) -> Mapping[str, list[Term]]:
    row, found = CredentialRow, dict[str, list[Term]]()
    dates: list[Any] = [row.expires_at, row.withdrawn_at, row.starts_at, row.disabled_at, row.last_used_at]
    columns: list[Any] = [col(column) for column in (row.client_id, *dates)]
    read = sa.select(*columns).where(among(row.client_id, client_ids))
    for client_id, expires_at, withdrawn_at, starts_at, disabled_at, used_at in session.execute(read):
        state = state_of(expires_at, withdrawn_at, now, warn, starts_at=starts_at, disabled_at=disabled_at)
        found.setdefault(client_id, []).append(Term(state, expires_at, used_at))
    return found


def _waiting(session: Session, client_ids: Iterable[str], now: datetime) -> Mapping[str, list[str]]:
    found: dict[str, list[str]] = {}
    for ask in waiting_asks(session, client_ids, now):
        found.setdefault(ask.client_id, []).append(ask.permission)
    return found


def _used(session: Session, client_ids: Iterable[str]) -> Mapping[str, datetime]:
    """Return when guards saw a call of each client last: the latest of its last day."""
    wanted = sa.func.unnest(sa.cast(list(client_ids), sa.ARRAY(sa.Text))).table_valued("id").render_derived("wanted")
    mine = col(UsageRow.client_id) == wanted.c.id
    last = sa.select(sa.func.max(col(UsageRow.day))).where(mine).correlate(wanted).scalar_subquery()
    latest = sa.select(sa.func.max(col(UsageRow.last_at))).where(mine, col(UsageRow.day) == last).correlate(wanted)
    rows = session.execute(sa.select(wanted.c.id, latest.scalar_subquery()))
    return {client_id: at for client_id, at in rows if at is not None}


def _findings(session: Session, client_ids: Iterable[str], now: datetime) -> Mapping[str, tuple[int, int]]:
    row = FindingRow
    read = (
        sa.select(col(row.client_id), sa.func.count(), sa.func.max(col(row.severity)))
        .where(
            among(row.client_id, client_ids),
            col(row.resolved_at).is_(None),
            col(row.waived_until).is_(None) | (col(row.waived_until) <= now),
        )
        .group_by(col(row.client_id))
    )
    return {client_id: (count, worst) for client_id, count, worst in session.execute(read)}
