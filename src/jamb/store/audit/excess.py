"""Excess as it stands, by client and resource, and by how much it rose or fell on which day."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from datetime import date
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, Date, ForeignKey, Index, Text
from sqlmodel import Field, Session, SQLModel, col

from jamb.core.audit.excess import Excess
from jamb.store.base.columns import among, among_ids
from jamb.store.base.reading import Reading
from jamb.store.clients.clients import ClientOwnerRow, ClientRow
from jamb.store.directory.people import PersonRow
from jamb.store.directory.sums import SumOf, by_day, totals
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
    states, changes = _Columns(directory_id), _Columns(directory_id)
    for key in sorted(before.keys() | after.keys(), key=str):
        held, one = before.get(key, (0.0, 0.0, 0.0)), after.get(key, Excess())
        wanted = (one.granted_weight, one.unused_weight, one.early_weight)
        if held == wanted:
            continue
        states.add(key, wanted)
        if held[:2] != wanted[:2]:
            changes.add(key, (wanted[0] - held[0], wanted[1] - held[1], 0.0))
    # One statement each, however many rows: what they add to the sums is one part.
    if states.clients:
        session.execute(_KEEP_STATES, states.values())
    if changes.clients:
        session.execute(_KEEP_CHANGES, changes.values() | {"day": day})


@dataclass(slots=True)
class _Columns:
    """What is to be kept, a list for each column."""

    directory_id: UUID
    clients: list[str] = field(default_factory=list)
    resources: list[UUID] = field(default_factory=list)
    weights: list[tuple[float, float, float]] = field(default_factory=list)

    def add(self, key: tuple[str, UUID], weights: tuple[float, float, float]) -> None:
        self.clients.append(key[0])
        self.resources.append(key[1])
        self.weights.append(weights)

    def values(self) -> dict[str, Any]:
        granted, unused, early = ([*map(float, column)] for column in zip(*self.weights, strict=True))
        columns = {"clients": self.clients, "resources": self.resources}
        return {**columns, "directory": self.directory_id, "granted": granted, "unused": unused, "early": early}


def _each(*columns: str) -> str:
    kinds = {"clients": "text[]", "resources": "uuid[]"}
    return ", ".join(f"cast(:{name} as {kinds.get(name, 'double precision[]')})" for name in columns)


_KEEP_STATES = sa.text(f"""
    insert into excess (client_id, resource_id, directory_id, granted, unused, early)
    select client_id, resource_id, :directory, granted, unused, early
      from unnest({_each("clients", "resources", "granted", "unused", "early")})
        as found (client_id, resource_id, granted, unused, early)
    on conflict (client_id, resource_id) do update
        set granted = excluded.granted, unused = excluded.unused, early = excluded.early
""")  # noqa: S608 - of our own
_KEEP_CHANGES = sa.text(f"""
    insert into excess_change (client_id, resource_id, directory_id, day, granted, unused)
    select client_id, resource_id, :directory, :day, granted, unused
      from unnest({_each("clients", "resources", "granted", "unused")})
        as found (client_id, resource_id, granted, unused)
    on conflict (client_id, resource_id, day) do update
        set granted = excess_change.granted + excluded.granted, unused = excess_change.unused + excluded.unused
""")  # noqa: S608 - of our own


_SUMS = (
    sa.func.coalesce(sa.func.sum(col(ExcessRow.granted)), 0.0),
    sa.func.coalesce(sa.func.sum(col(ExcessRow.unused)), 0.0),
    sa.func.coalesce(sa.func.sum(col(ExcessRow.early)), 0.0),
)
# The most unused first; of equals those of which more can be said.
_WORST = (_SUMS[1].desc(), _SUMS[0].desc())


def in_all(directory_id: UUID) -> Reading[Excess]:
    """The excess of a directory."""
    sums = totals(directory_id, SumOf.GRANTED_WEIGHT, SumOf.UNUSED_WEIGHT, SumOf.EARLY_WEIGHT)
    return sums.then(lambda found: Excess(*found))


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
    sums = by_day(directory_id, SumOf.GRANTED_WEIGHT_ROSE, SumOf.UNUSED_WEIGHT_ROSE)
    return sums.then(lambda found: [(day, granted, unused) for day, (granted, unused) in found])


def changes(
    session: Session,
    directory_id: UUID,
    *,
    client_ids: Iterable[str] | None = None,
    resource_ids: Iterable[UUID] | None = None,
) -> Changes:
    """Return by how much both weights rose, day by day: of a directory, or of some of its clients or resources."""
    if client_ids is None and resource_ids is None:
        return changes_in_all(directory_id).of(session)
    day = col(ExcessChangeRow.day)
    sums = (sa.func.sum(col(ExcessChangeRow.granted)), sa.func.sum(col(ExcessChangeRow.unused)))
    wanted = sa.select(day, *sums).where(col(ExcessChangeRow.directory_id) == directory_id).group_by(day).order_by(day)
    if client_ids is not None:
        wanted = wanted.where(among(ExcessChangeRow.client_id, client_ids))
    if resource_ids is not None:
        wanted = wanted.where(among_ids(ExcessChangeRow.resource_id, resource_ids))
    return [(day, granted, unused) for day, granted, unused in session.execute(wanted)]
