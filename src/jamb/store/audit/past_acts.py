"""What the ledger tells of clients and of the directory, for the rules that look back."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Text
from sqlmodel import Session, col

from jamb.core.audit.past import LOOKED_BACK, Done
from jamb.store.base.columns import MOMENT, one_of, parameter
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
    found: dict[str, list[Done]] = {}
    asked = {"clients": list(client_ids), **_asked(_OF_CLIENT, directory_id, now)}
    for one in session.execute(_chosen_of_clients(), asked):
        rows = found.setdefault(one.subject["client"], [])
        if len(rows) < MOST:
            rows.append(_done(one))
    return {key: tuple(reversed(rows)) for key, rows in found.items()}


def of_all(session: Session, directory_id: UUID, now: datetime) -> tuple[Done, ...]:
    """Return what was done to the policy and the resources in the last year, the oldest first."""
    rows = session.execute(_chosen_of_all(), _asked(_OF_ALL, directory_id, now))
    return tuple(reversed([_done(one) for one in rows]))


def _asked(actions: tuple[str, ...], directory_id: UUID, now: datetime) -> dict[str, Any]:
    return {"actions": list(actions), "directory": directory_id, "since": now - LOOKED_BACK}


@cache
def _chosen_of_clients() -> sa.Select[Any]:
    # To the letter as in the index.
    client: sa.ColumnElement[str] = sa.literal_column("(subject ->> 'client')", Text)
    return _chosen().where(one_of(client, "clients")).order_by(client, col(LedgerEntryRow.sequence).desc())


@cache
def _chosen_of_all() -> sa.Select[Any]:
    return _chosen().order_by(col(LedgerEntryRow.sequence).desc()).limit(MOST)


def _chosen() -> sa.Select[Any]:
    row = LedgerEntryRow
    return sa.select(
        col(row.action), col(row.at), col(row.actor), col(row.subject), col(row.before), col(row.after)
    ).where(
        col(row.directory_id) == parameter("directory", sa.Uuid),
        one_of(row.action, "actions"),
        col(row.at) > parameter("since", MOMENT),
    )


def _done(one: Any) -> Done:
    actor = one.actor
    return Done(
        one.action, one.at, actor["kind"], actor["id"], actor["name"], one.subject, one.before or {}, one.after or {}
    )
