"""smaller grants that are tried in a dry run, and the calls they would have refused."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import BigInteger, Column, ForeignKey, Index, Text
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.access import Holding
from jamb.core.reach.details import reach_of
from jamb.store.base.columns import among, among_ids, bound, document, moment, words
from jamb.store.clients.clients import ClientRow


class DryRunRow(SQLModel, table=True):
    """A narrower grant beside what is held. `replaces`: permissions with their reach; `outcome`: once it has ended."""

    __tablename__ = "dry_run"
    __table_args__ = (
        Index("dry_run_once", "client_id", "resource_id", unique=True, postgresql_where=sa.text("ended_at IS NULL")),
    )

    id: UUID = Field(primary_key=True)
    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), nullable=False))
    resource_id: UUID = Field(foreign_key="resource.id")
    permissions: list[str] = words()
    reach: dict[str, list[str]] | None = bound()
    replaces: list[dict[str, Any]] = document()
    started_at: datetime = moment()
    started_by: str = Field(sa_type=Text)
    dry_run_until: datetime = moment()
    reason: str = Field(default="", sa_type=Text)
    ended_at: datetime | None = moment(nullable=True)
    ended_by: str = Field(default="", sa_type=Text)
    outcome: str = Field(default="", sa_type=Text)

    def after(self) -> tuple[Holding, ...]:
        return tuple(Holding(name, reach_of(self.reach)) for name in self.permissions)

    def before(self) -> tuple[Holding, ...]:
        return tuple(Holding(held["permission"], reach_of(held["reach"])) for held in self.replaces)


class DryRunMissRow(SQLModel, table=True):
    """Calls that a narrower grant would have refused, by operation and object."""

    __tablename__ = "dry_run_miss"

    dry_run_id: UUID = Field(sa_column=Column(ForeignKey("dry_run.id", ondelete="CASCADE"), primary_key=True))
    operation: str = Field(primary_key=True, sa_type=Text)
    object: str = Field(primary_key=True, sa_type=Text)
    calls: int = Field(sa_column=Column(BigInteger, nullable=False))
    last_at: datetime = moment()


def running_at(session: Session, resource_id: UUID, client_ids: Iterable[str]) -> dict[str, DryRunRow]:
    """Return what is in a dry run at a resource, by client."""
    wanted = select(DryRunRow).where(
        DryRunRow.resource_id == resource_id,
        col(DryRunRow.ended_at).is_(None),
        among(DryRunRow.client_id, client_ids),
    )
    return {row.client_id: row for row in session.exec(wanted)}


def by_ids(session: Session, dry_run_ids: Iterable[UUID]) -> dict[UUID, DryRunRow]:
    wanted = list(dry_run_ids)
    if not wanted:
        return {}
    return {row.id: row for row in session.exec(select(DryRunRow).where(among_ids(DryRunRow.id, wanted)))}


def running(session: Session, client_id: str, resource_id: UUID, *, lock: bool = False) -> DryRunRow | None:
    wanted = select(DryRunRow).where(
        DryRunRow.client_id == client_id,
        DryRunRow.resource_id == resource_id,
        col(DryRunRow.ended_at).is_(None),
    )
    return session.exec(wanted.with_for_update() if lock else wanted).first()


def add_misses(session: Session, rows: Iterable[tuple[UUID, str, str, int, datetime]]) -> None:
    """Count calls that were missed, in an order that two processes share."""
    summed: dict[tuple[UUID, str, str], tuple[int, datetime]] = {}
    for dry_run_id, operation, name, calls, at in rows:
        before, last = summed.get((dry_run_id, operation, name), (0, at))
        summed[dry_run_id, operation, name] = (before + calls, max(last, at))
    if not summed:
        return
    values = [
        {"dry_run_id": key[0], "operation": key[1], "object": key[2], "calls": calls, "last_at": at}
        for key, (calls, at) in sorted(summed.items(), key=lambda pair: (str(pair[0][0]), pair[0][1:]))
    ]
    statement = insert(DryRunMissRow)
    added = statement.on_conflict_do_update(
        index_elements=["dry_run_id", "operation", "object"],
        set_={
            "calls": col(DryRunMissRow.calls) + statement.excluded.calls,
            "last_at": sa.func.greatest(col(DryRunMissRow.last_at), statement.excluded.last_at),
        },
    )
    session.execute(added, values)


def misses_of(session: Session, dry_run_id: UUID, limit: int) -> list[DryRunMissRow]:
    """Return the misses, most calls first."""
    wanted = select(DryRunMissRow).where(DryRunMissRow.dry_run_id == dry_run_id)
    return list(session.exec(wanted.order_by(col(DryRunMissRow.calls).desc(), DryRunMissRow.operation).limit(limit)))


def running_in(
    session: Session, directory_id: UUID, limit: int, *wanted: sa.ColumnElement[bool]
) -> list[tuple[DryRunRow, str, int]]:
    """Return what is in a dry run in a directory, with the client's name and how many calls were missed; oldest
    first. `wanted`: what more must hold of it.
    """
    missed = (
        sa.select(sa.func.coalesce(sa.func.sum(col(DryRunMissRow.calls)), 0))
        .where(col(DryRunMissRow.dry_run_id) == col(DryRunRow.id))
        .correlate(DryRunRow)
        .scalar_subquery()
    )
    rows = session.execute(
        sa.select(DryRunRow, col(ClientRow.name), missed)
        .join(ClientRow, col(ClientRow.id) == col(DryRunRow.client_id))
        .where(col(ClientRow.directory_id) == directory_id, col(DryRunRow.ended_at).is_(None), *wanted)
        .order_by(col(DryRunRow.started_at), col(DryRunRow.id))
        .limit(limit)
    )
    return [(row, name, int(calls)) for row, name, calls in rows]


def running_for(session: Session, client_id: str) -> list[DryRunRow]:
    """Return the dry runs of a client, at every resource."""
    wanted = select(DryRunRow).where(DryRunRow.client_id == client_id, col(DryRunRow.ended_at).is_(None))
    return list(session.exec(wanted))
