"""Redirect URIs of clients: since when each is registered, when it was used last, and who else has its scheme.

The database keeps one row for each address of a registration (migration 0044).
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Text
from sqlalchemy.dialects.postgresql import array
from sqlmodel import Field, Session, SQLModel, col

from jamb.core.audit.picture import RedirectPicture
from jamb.store.base.columns import moment, one_of, parameter
from jamb.store.base.reading import Reading, Rows
from jamb.store.clients.clients import ClientRow

# Use is kept to the day: who signs in all day long writes once.
_TO_THE = timedelta(days=1)


class RedirectRow(SQLModel, table=True):
    """`last_at`: when an authorization code was sent there, to the day; none: never."""

    __tablename__ = "client_redirect"

    client_id: str = Field(primary_key=True, sa_type=Text)
    address: str = Field(primary_key=True, sa_type=Text)
    since: datetime = moment()
    last_at: datetime | None = moment(nullable=True)


def answered(session: Session, client_id: str, address: str, now: datetime) -> None:
    """Note that a code is sent to a registered address."""
    last = col(RedirectRow.last_at)
    session.execute(
        sa.update(RedirectRow)
        .where(
            col(RedirectRow.client_id) == client_id,
            col(RedirectRow.address) == address,
            sa.or_(last.is_(None), last <= now - _TO_THE),
        )
        .values(last_at=now)
    )


def of_clients(client_ids: Iterable[str]) -> Reading[dict[str, list[RedirectPicture]]]:
    """The redirect URIs of each client, by address."""
    return Reading(_redirects(), {"clients": list(client_ids)}, _as_redirects)


def _as_redirects(rows: Rows) -> dict[str, list[RedirectPicture]]:
    found: dict[str, list[RedirectPicture]] = {}
    for client_id, address, since, last_at in rows:
        found.setdefault(client_id, []).append(RedirectPicture(address, since, last_at))
    return found


@cache
def _redirects() -> sa.Select[Any]:
    row = RedirectRow
    columns: list[Any] = [col(column) for column in (row.client_id, row.address, row.since, row.last_at)]
    return sa.select(*columns).where(one_of(row.client_id, "clients")).order_by(col(row.address))


def same_scheme(directory_id: UUID, client_ids: Iterable[str]) -> Reading[dict[str, dict[str, str]]]:
    """The private-use schemes that clients registered before each of these have, too: with the first's name."""
    return Reading(_same_scheme(), {"clients": list(client_ids), "directory": directory_id}, _as_schemes)


def _as_schemes(rows: Rows) -> dict[str, dict[str, str]]:
    found: dict[str, dict[str, str]] = {}
    for client_id, name, whose in rows:
        found.setdefault(client_id, {})[name] = whose
    return found


@cache
def _same_scheme() -> sa.Select[Any]:
    here = parameter("directory", sa.Uuid)
    client, other = (ClientRow.__table__.alias() for _ in range(2))  # type: ignore[attr-defined]
    scheme = sa.func.unnest(client.c.schemes).table_valued("scheme").render_derived().lateral()
    first = (
        sa.select(other.c.name)
        .where(
            other.c.directory_id == here,
            other.c.schemes.op("@>")(array([scheme.c.scheme])),
            other.c.state != "removed",
            ~other.c.builtin,
            sa.tuple_(other.c.registered_at, other.c.id) < sa.tuple_(client.c.registered_at, client.c.id),
        )
        .order_by(other.c.registered_at, other.c.id)
        .limit(1)
        .lateral()
    )
    return (
        sa.select(client.c.id, scheme.c.scheme, first.c.name)
        .select_from(client)
        .join(scheme, sa.true())
        .join(first, sa.true())
        .where(client.c.directory_id == here, one_of(client.c.id, "clients"), client.c.state != "removed")
    )
