"""What the ledger tells of clients and of the directory, for the rules that look back."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Text
from sqlmodel import col

from jamb.core.audit.past import LOOKED_BACK, Done
from jamb.store.base.columns import MOMENT, among, one_of, parameter
from jamb.store.base.reading import Reading, Rows
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


def of_clients(directory_id: UUID, client_ids: Iterable[str], now: datetime) -> Reading[dict[str, tuple[Done, ...]]]:
    """What was done to clients in the last year, the oldest first."""
    return Reading(_chosen_of_clients(), {"clients": list(client_ids), **_asked(directory_id, now)}, _by_client)


def of_all(directory_id: UUID, now: datetime) -> Reading[tuple[Done, ...]]:
    """What was done to the policy and the resources in the last year, the oldest first."""
    return Reading(_chosen_of_all(), _asked(directory_id, now), _oldest_first)


def _asked(directory_id: UUID, now: datetime) -> dict[str, Any]:
    return {"directory": directory_id, "looked_back": now - LOOKED_BACK}


def _by_client(rows: Rows) -> dict[str, tuple[Done, ...]]:
    found: dict[str, list[Done]] = {}
    for row in rows:
        done = _done(row)
        held = found.setdefault(done.subject["client"], [])
        if len(held) < MOST:
            held.append(done)
    return {key: tuple(reversed(held)) for key, held in found.items()}


def _oldest_first(rows: Rows) -> tuple[Done, ...]:
    return tuple(reversed([_done(row) for row in rows]))


@cache
def _chosen_of_clients() -> sa.Select[Any]:
    # To the letter as in the index.
    client: sa.ColumnElement[str] = sa.literal_column("(subject ->> 'client')", Text)
    return _chosen(_OF_CLIENT).where(one_of(client, "clients")).order_by(client, col(LedgerEntryRow.sequence).desc())


@cache
def _chosen_of_all() -> sa.Select[Any]:
    return _chosen(_OF_ALL).order_by(col(LedgerEntryRow.sequence).desc()).limit(MOST)


def _chosen(actions: tuple[str, ...]) -> sa.Select[Any]:
    row = LedgerEntryRow
    return sa.select(
        col(row.action), col(row.at), col(row.actor), col(row.subject), col(row.before), col(row.after)
    ).where(
        col(row.directory_id) == parameter("directory", sa.Uuid),
        among(row.action, actions),
        col(row.at) > parameter("looked_back", MOMENT),
    )


def _done(row: Sequence[Any]) -> Done:
    action, at, actor, subject, before, after = row
    return Done(action, at, actor["kind"], actor["id"], actor["name"], subject, before or {}, after or {})
