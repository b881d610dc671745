"""What the ledger tells of clients and of the directory, for the rules that look back."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Text
from sqlalchemy.dialects.postgresql import ARRAY
from sqlmodel import Session, col

from jamb.core.audit.past import LOOKED_BACK, Done
from jamb.store.base.columns import among
from jamb.store.directory.ledger import LedgerEntryRow

_OF_CLIENT = (
    "owners.changed",
    "secret.issued",
    "secret.imported",
    "credential.added",
    "permission.asked",
    "consent.granted",
    "role.assigned",
    "role.withdrawn",
    "client.restored",
    "agreement.given",
    "agreement.first-yes",
)
_OF_ALL = ("policy.changed", "resource.changed", "collections.replaced")
# Of a client that was changed without end the latest are enough.
MOST = 500


def of_clients(
    session: Session, directory_id: UUID, client_ids: Iterable[str], now: datetime
) -> dict[str, tuple[Done, ...]]:
    """Return what was done to clients in the last year, the oldest first."""
    # To the mail as in the index.
    client: sa.ColumnElement[str] = sa.literal_column("(subject ->> 'client')", Text)
    wanted = sa.any_(sa.bindparam(None, list(client_ids), ARRAY(Text)))
    found: dict[str, list[Done]] = {}
    statement = _chosen(_OF_CLIENT, directory_id, now).where(client == wanted)
    for one in session.execute(statement.order_by(client, col(LedgerEntryRow.sequence).desc())):
        rows = found.setdefault(one.subject["client"], [])
        if len(rows) < MOST:
            rows.append(_done(one))
    return {key: tuple(reversed(rows)) for key, rows in found.items()}


def of_all(session: Session, directory_id: UUID, now: datetime) -> tuple[Done, ...]:
    """Return what was done to the policy and the resources in the last year, the oldest first."""
    statement = _chosen(_OF_ALL, directory_id, now).order_by(col(LedgerEntryRow.sequence).desc()).limit(MOST)
    return tuple(reversed([_done(one) for one in session.execute(statement)]))


def _chosen(actions: tuple[str, ...], directory_id: UUID, now: datetime) -> sa.Select[Any]:
    row = LedgerEntryRow
    return sa.select(
        col(row.action), col(row.at), col(row.actor), col(row.subject), col(row.before), col(row.after)
    ).where(col(row.directory_id) == directory_id, among(row.action, actions), col(row.at) > now - LOOKED_BACK)


def _done(one: Any) -> Done:
    actor = one.actor
    return Done(
        one.action, one.at, actor["kind"], actor["id"], actor["name"], one.subject, one.before or {}, one.after or {}
    )
