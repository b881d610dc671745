"""Excess as it stands, by client and resource, and by how much it rose or fell on which day."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from functools import cache
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, Date, ForeignKey, Index, Text
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, SQLModel, col

from jamb.core.audit.excess import Excess
from jamb.store.base.columns import among, among_ids, parameter
from jamb.store.base.reading import Reading, Rows, one
from jamb.store.clients.clients import ClientOwnerRow, ClientRow
from jamb.store.directory.people import PersonRow
from jamb.store.resources.resources import ResourceRow


class ExcessRow(SQLModel, table=True):
    __tablename__ = "excess"
    __table_args__ = (Index("excess_by_directory", "directory_id", "resource_id"),)

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id", ondelete="CASCADE"), primary_key=True))
    resource_id: UUID = Field(sa_column=Column(ForeignKey("resource.id"), primary_key=True))
    directory_id: UUID = Field(foreign_key="directory.id")
    granted: float
    unused: float
    early: float


class ExcessChangeRow(SQLModel, table=True):
    """By how much both weights rose (or fell) on one day: sums of these are the trend of anything."""

    __tablename__ = "excess_change"
    __table_args__ = (Index("excess_change_by_day", "directory_id", "day", postgresql_include=["granted", "unused"]),)

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id", ondelete="CASCADE"), primary_key=True))
    resource_id: UUID = Field(sa_column=Column(ForeignKey("resource.id"), primary_key=True))
    day: date = Field(sa_column=Column(Date, primary_key=True))
    directory_id: UUID = Field(foreign_key="directory.id")
    granted: float
    unused: float


def keep(
    session: Session,
    directory_id: UUID,
    client_ids: Iterable[str],
    found: Iterable[tuple[str, UUID, Excess]],
    day: date,
) -> None:
    """Make what is kept of some clients what was found; note what changed under the day."""
    ids = list(client_ids)
    rows = session.execute(
        sa.select(
            col(ExcessRow.client_id),
            col(ExcessRow.resource_id),
            col(ExcessRow.granted),
            col(ExcessRow.unused),
            col(ExcessRow.early),
        ).where(among(ExcessRow.client_id, ids))
    )
    before = {
        (client_id, resource_id): (granted, unused, early) for client_id, resource_id, granted, unused, early in rows
    }
    after = {(client_id, resource_id): one for client_id, resource_id, one in found}
    changes, states = [], []
    for key in sorted(before.keys() | after.keys(), key=str):
        held, one = before.get(key, (0.0, 0.0, 0.0)), after.get(key, Excess())
        wanted = (one.granted_weight, one.unused_weight, one.early_weight)
        if held == wanted:
            continue
        common = {"client_id": key[0], "resource_id": key[1], "directory_id": directory_id}
        states.append(common | {"granted": wanted[0], "unused": wanted[1], "early": wanted[2]})
        if held[:2] != wanted[:2]:
            more = {"granted": wanted[0] - held[0], "unused": wanted[1] - held[1]}
            changes.append(common | {"day": day} | more)
    if states:
        state = insert(ExcessRow)
        values = {name: getattr(state.excluded, name) for name in ("granted", "unused", "early")}
        session.execute(state.on_conflict_do_update(index_elements=["client_id", "resource_id"], set_=values), states)
    if changes:
        change = insert(ExcessChangeRow)
        added = {
            name: getattr(ExcessChangeRow, name) + getattr(change.excluded, name) for name in ("granted", "unused")
        }
        keys = ["client_id", "resource_id", "day"]
        session.execute(change.on_conflict_do_update(index_elements=keys, set_=added), changes)


_SUMS = (
    sa.func.coalesce(sa.func.sum(col(ExcessRow.granted)), 0.0),
    sa.func.coalesce(sa.func.sum(col(ExcessRow.unused)), 0.0),
    sa.func.coalesce(sa.func.sum(col(ExcessRow.early)), 0.0),
)
# The most unused first; of equals those of which more can be said.
_WORST = (_SUMS[1].desc(), _SUMS[0].desc())


def in_all(directory_id: UUID) -> Reading[Excess]:
    """The excess of a directory."""
    return Reading(
        _in_all(), {"directory": directory_id}, lambda rows: Excess(*(round(value, 3) for value in one(rows)))
    )


@cache
def _in_all() -> sa.Select[float, float, float]:
    return sa.select(*_SUMS).where(col(ExcessRow.directory_id) == parameter("directory", sa.Uuid))


def by_resource(session: Session, directory_id: UUID, limit: int) -> list[tuple[str, str, Excess]]:
    """Return (name, title, excess), the most unused weight first."""
    rows = session.execute(
        sa.select(col(ResourceRow.name), col(ResourceRow.title), *_SUMS)
        .join(ResourceRow, col(ResourceRow.id) == col(ExcessRow.resource_id))
        .where(col(ExcessRow.directory_id) == directory_id)
        .group_by(col(ResourceRow.name), col(ResourceRow.title))
        .order_by(*_WORST, col(ResourceRow.name))
        .limit(limit)
    )
    return [(name, title, Excess(*(round(value, 3) for value in sums))) for name, title, *sums in rows]


def by_client(session: Session, directory_id: UUID, limit: int) -> list[tuple[str, str, Excess]]:
    """Return (id, name, excess), the most unused weight first."""
    rows = session.execute(
        sa.select(col(ClientRow.id), col(ClientRow.name), *_SUMS)
        .join(ClientRow, col(ClientRow.id) == col(ExcessRow.client_id))
        .where(col(ExcessRow.directory_id) == directory_id)
        .group_by(col(ClientRow.id), col(ClientRow.name))
        .having(_SUMS[0] + _SUMS[2] > 0)
        .order_by(*_WORST, col(ClientRow.name))
        .limit(limit)
    )
    return [(key, name, Excess(*(round(value, 3) for value in sums))) for key, name, *sums in rows]


def by_owner(session: Session, directory_id: UUID, limit: int) -> list[tuple[str, str, Excess]]:
    """Return (id, name, excess) of people, over the clients they answer for; the most unused weight first."""
    rows = session.execute(
        sa.select(sa.cast(col(PersonRow.id), Text), col(PersonRow.name), *_SUMS)
        .join(ClientOwnerRow, col(ClientOwnerRow.client_id) == col(ExcessRow.client_id))
        .join(PersonRow, col(PersonRow.id) == col(ClientOwnerRow.person_id))
        .where(col(ExcessRow.directory_id) == directory_id, col(ClientOwnerRow.level) == "full")
        .group_by(col(PersonRow.id), col(PersonRow.name))
        .having(_SUMS[0] + _SUMS[2] > 0)
        .order_by(*_WORST, col(PersonRow.name))
        .limit(limit)
    )
    return [(key, name, Excess(*(round(value, 3) for value in sums))) for key, name, *sums in rows]


Changes = list[tuple[date, float, float]]


def changes_in_all(directory_id: UUID) -> Reading[Changes]:
    """By how much both weights of a directory rose, day by day."""
    return Reading(_changes_in_all(), {"directory": directory_id}, _as_changes)


def _as_changes(rows: Rows) -> Changes:
    return [(day, granted, unused) for day, granted, unused in rows]


@cache
def _changes_in_all() -> sa.Select[date, float, float]:
    day = col(ExcessChangeRow.day)
    sums = (sa.func.sum(col(ExcessChangeRow.granted)), sa.func.sum(col(ExcessChangeRow.unused)))
    here = col(ExcessChangeRow.directory_id) == parameter("directory", sa.Uuid)
    return sa.select(day, *sums).where(here).group_by(day).order_by(day)


def changes(
    session: Session,
    directory_id: UUID,
    *,
    client_ids: Iterable[str] | None = None,
    resource_ids: Iterable[UUID] | None = None,
) -> Changes:
    """Return by how much both weights rose, day by day: of a directory, or of some of its clients or resources."""
    wanted = _changes_in_all()
    if client_ids is not None:
        wanted = wanted.where(among(ExcessChangeRow.client_id, client_ids))
    if resource_ids is not None:
        wanted = wanted.where(among_ids(ExcessChangeRow.resource_id, resource_ids))
    return _as_changes(session.execute(wanted, {"directory": directory_id}))
