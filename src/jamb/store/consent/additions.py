"""What people added to clients and people, and how much: by which several small additions are known for a large one."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import BigInteger, Column, Float, Index, Text
from sqlmodel import Field, Session, SQLModel, col

from jamb.store.base.columns import among, moment


class AdditionRow(SQLModel, table=True):
    """One addition to what a client or a person (the target) may do, by one person or client, with its weight.

    `way`: by what (consent, reach, role, bundle, restoration). `alone`: nobody else asked for it, or agreed.
    """

    __tablename__ = "addition"
    __table_args__ = (Index("addition_by_target", "target_id", "at"), Index("addition_by_time", "at"))

    id: int | None = Field(default=None, sa_column=Column(BigInteger, primary_key=True, autoincrement=True))
    target_id: str = Field(sa_type=Text)
    added_by_id: str = Field(sa_type=Text)
    at: datetime = moment()
    way: str = Field(sa_type=Text)
    weight: float = Field(sa_column=Column(Float, nullable=False))
    alone: bool


@dataclass(frozen=True, slots=True)
class Earlier:
    """Weights that some had added before: `alone`, and in all with nobody beside them who decided."""

    alone: float = 0.0
    deciding: float = 0.0


def earlier(
    session: Session,
    target_ids: Collection[str],
    by_ids: Collection[str],
    since: datetime,
    but: Collection[str] = (),
) -> Earlier:
    """Return what any of these had added to any of the targets since a moment, `but` by some ways."""
    rows = session.execute(
        sa.select(
            sa.func.coalesce(sa.func.sum(col(AdditionRow.weight)).filter(col(AdditionRow.alone)), 0.0),
            sa.func.coalesce(sa.func.sum(col(AdditionRow.weight)), 0.0),
        ).where(
            among(AdditionRow.target_id, target_ids),
            among(AdditionRow.added_by_id, by_ids),
            col(AdditionRow.at) > since,
            ~among(AdditionRow.way, but),
        )
    )
    alone, deciding = rows.one()
    return Earlier(round(alone, 1), round(deciding, 1))


def targets(
    session: Session, target_ids: Collection[str], by_ids: Collection[str], since: datetime, ways: Collection[str]
) -> frozenset[str]:
    """Return those of the targets to which any of these added something alone, by some ways, since a moment."""
    rows = session.execute(
        sa.select(col(AdditionRow.target_id))
        .distinct()
        .where(
            among(AdditionRow.target_id, target_ids),
            among(AdditionRow.added_by_id, by_ids),
            col(AdditionRow.at) > since,
            col(AdditionRow.alone),
            among(AdditionRow.way, ways),
        )
    )
    return frozenset(key for (key,) in rows)


def take_turn(session: Session, directory_id: UUID) -> None:
    """Wait until nobody else judges what is added in a directory, until the transaction ends.

    Taken before any row is locked: what was added together is seen together, whichever process adds it.
    """
    key = int.from_bytes(directory_id.bytes[:8], "big", signed=True)
    session.execute(sa.select(sa.func.pg_advisory_xact_lock(key)))
