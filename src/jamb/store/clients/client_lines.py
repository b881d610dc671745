"""What a line of the list says of each client: what was kept when it was last looked at, and what changes by use.

A handful of statements for a page, each by an index, so that a page costs the same in a large directory. Of a client
that changed since it was looked at nothing is kept: `load` leaves it out, and it is to be read whole
(`store.audit.client_facts`).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache, partial
from typing import Any

import sqlalchemy as sa
from sqlmodel import Session, col

from jamb.core.clients.clients import ClientState
from jamb.core.credentials.term import CredentialState, state_of
from jamb.core.ladder import LadderCount
from jamb.store.audit.findings import AuditStaleRow, AuditStateRow, FindingRow
from jamb.store.base.columns import MOMENT, one_of, parameter
from jamb.store.base.reading import Reading, Readings, Rows
from jamb.store.clients import clients
from jamb.store.clients.client_lists import WaitingAsk, waiting_asks
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
    rows, asked = _rows(session, client_ids, now), Readings()
    ids = {"clients": list(rows)}
    owned = asked.add(clients.owners(rows))
    terms = asked.add(Reading(_terms(), ids, partial(_as_terms, now=now, warn=warn)))
    # Few wait, and to find out of the others that they do not costs more than all else.
    waiting = asked.add(waiting_asks([key for key, (_, ladder) in rows.items() if ladder.waiting], now))
    used = asked.add(Reading(_used(), ids, _as_used))
    found = asked.add(Reading(_findings(), {**ids, "now": now}, _as_findings))
    asked.read(session, at_once=True)
    asks = _by_client(waiting.value)
    return {
        key: Line(
            row=row,
            owners=owned.value.get(key, ()),
            ladder=ladder,
            waiting=asks.get(key, ()),
            terms=terms.value.get(key, ()),
            used_at=used.value.get(key),
            findings=found.value.get(key, (0, 0))[0],
            worst=found.value[key][1] if key in found.value else None,
        )
        for key, (row, ladder) in rows.items()
    }


def _rows(session: Session, client_ids: Sequence[str], now: datetime) -> dict[str, tuple[ClientRow, LadderCount]]:
    rows = session.execute(_unchanged(), {"clients": list(client_ids), "now": now})
    return {row[0].id: (row[0], LadderCount(*row[1:])) for row in rows}


@cache
def _unchanged() -> sa.Select[*tuple[Any, ...]]:
    state, now = AuditStateRow, parameter("now", MOMENT)
    changed = sa.exists().where(col(AuditStaleRow.client_id) == ClientRow.id)
    return (
        sa.select(ClientRow, *(col(kept) for kept in (state.asked, state.granted, state.used, state.waiting)))
        .join(state, col(state.client_id) == col(ClientRow.id))
        .where(
            one_of(ClientRow.id, "clients"),
            col(ClientRow.state) != ClientState.REMOVED.value,
            ~changed,
            col(state.next_at).is_(None) | (col(state.next_at) > now),
        )
    )


@cache
def _terms() -> sa.Select[Any]:
    row = CredentialRow
    dates: list[Any] = [row.expires_at, row.withdrawn_at, row.starts_at, row.disabled_at, row.last_used_at]
    columns: list[Any] = [col(column) for column in (row.client_id, *dates)]
    return sa.select(*columns).where(one_of(row.client_id, "clients"))


def _as_terms(rows: Rows, now: datetime, warn: timedelta) -> Mapping[str, list[Term]]:
    found: dict[str, list[Term]] = {}
    for client_id, expires_at, withdrawn_at, starts_at, disabled_at, used_at in rows:
        state = state_of(expires_at, withdrawn_at, now, warn, starts_at=starts_at, disabled_at=disabled_at)
        found.setdefault(client_id, []).append(Term(state, expires_at, used_at))
    return found


def _by_client(asks: Iterable[WaitingAsk]) -> Mapping[str, list[str]]:
    found: dict[str, list[str]] = {}
    for ask in asks:
        found.setdefault(ask.client_id, []).append(ask.permission)
    return found


@cache
def _used() -> sa.Select[Any]:
    """Return the statement of when guards saw a call of each client last: the latest of its last day."""
    ids = sa.func.unnest(parameter("clients", sa.ARRAY(sa.Text)))
    wanted = ids.table_valued("id").render_derived("wanted")
    mine = col(UsageRow.client_id) == wanted.c.id
    last = sa.select(sa.func.max(col(UsageRow.day))).where(mine).correlate(wanted).scalar_subquery()
    latest = sa.select(sa.func.max(col(UsageRow.last_at))).where(mine, col(UsageRow.day) == last).correlate(wanted)
    return sa.select(wanted.c.id, latest.scalar_subquery())


def _as_used(rows: Rows) -> Mapping[str, datetime]:
    return {client_id: at for client_id, at in rows if at is not None}


@cache
def _findings() -> sa.Select[*tuple[Any, ...]]:
    row = FindingRow
    return (
        sa.select(col(row.client_id), sa.func.count(), sa.func.max(col(row.severity)))
        .where(
            one_of(row.client_id, "clients"),
            col(row.resolved_at).is_(None),
            col(row.waived_until).is_(None) | (col(row.waived_until) <= parameter("now", MOMENT)),
        )
        .group_by(col(row.client_id))
    )


def _as_findings(rows: Rows) -> Mapping[str, tuple[int, int]]:
    return {client_id: (count, worst) for client_id, count, worst in rows}
