"""By which grant types clients got tokens, and when last, to the day: noted by `store.entry.tokens`."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from functools import cache

import sqlalchemy as sa
from sqlalchemy import Text
from sqlmodel import Field, SQLModel, col

from jamb.store.base.columns import moment, one_of
from jamb.store.base.reading import Reading, Rows


class GrantTypeRow(SQLModel, table=True):
    __tablename__ = "client_grant_type"

    # Not a foreign key: whoever records a token would wait for whoever changes the client.
    client_id: str = Field(primary_key=True, sa_type=Text)
    grant_type: str = Field(primary_key=True, sa_type=Text)
    last_at: datetime = moment()


def used_by(client_ids: Iterable[str]) -> Reading[dict[str, dict[str, datetime]]]:
    """The grant types that each client was ever seen to use, with when last."""
    return Reading(_used(), {"clients": list(client_ids)}, _as_used)


def _as_used(rows: Rows) -> dict[str, dict[str, datetime]]:
    found: dict[str, dict[str, datetime]] = {}
    for client_id, grant_type, last_at in rows:
        found.setdefault(client_id, {})[grant_type] = last_at
    return found


@cache
def _used() -> sa.Select[str, str, datetime]:
    return sa.select(col(GrantTypeRow.client_id), col(GrantTypeRow.grant_type), col(GrantTypeRow.last_at)).where(
        one_of(GrantTypeRow.client_id, "clients")
    )
