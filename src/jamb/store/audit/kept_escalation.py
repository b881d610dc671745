"""The escalation paths of a directory as they were found last, and whether they can have changed since.

They follow from records, each change of which is in the ledger, and from time: a role or a consent that begins or ends.
"""

from __future__ import annotations

from datetime import datetime, timedelta
from functools import cache
from typing import Any, NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import BigInteger, Column, Float, ForeignKey
from sqlalchemy.dialects.postgresql import array, insert
from sqlmodel import Field, Session, SQLModel, col

from jamb.store.audit.findings import AuditStateRow
from jamb.store.base.columns import MOMENT, document, moment, parameter
from jamb.store.directory.ledger import LedgerHeadRow
from jamb.store.directory.roles import AssignmentRow, RoleRow

# Whatever else may tell: no older than this.
LONGEST_KEPT = timedelta(hours=1)
NOTED_EVERY = timedelta(minutes=10)


class EscalationRow(SQLModel, table=True):
    """`sequence`: of the last entry of the ledger that they follow from; `until`: when time changes the first of it.

    `found`, `made_at`: nothing yet where they were only asked for; `asked_at`: when a round was last left to find them.
    """

    __tablename__ = "escalation"

    directory_id: UUID = Field(sa_column=Column(ForeignKey("directory.id"), primary_key=True))
    sequence: int = Field(sa_column=Column(BigInteger, nullable=False))
    made_at: datetime | None = moment(nullable=True)
    until: datetime = moment()
    found: dict[str, Any] | None = document(nullable=True)
    took_seconds: float = Field(sa_column=Column(Float, nullable=False))
    asked_at: datetime | None = moment(nullable=True)


class Kept(NamedTuple):
    """What was found last, when, and how long it took; `current`: it is still so."""

    found: dict[str, Any] | None
    made_at: datetime | None
    took: timedelta
    asked_at: datetime | None = None
    current: bool = True


def find(session: Session, directory_id: UUID, now: datetime) -> Kept | None:
    row = session.execute(_kept(), {"directory": directory_id, "now": now}).first()
    if row is None:
        return None
    found, made_at, took, asked_at, current = row
    return Kept(found, made_at, timedelta(seconds=took), asked_at, bool(current))


@cache
def _kept() -> sa.Select[Any]:
    now = parameter("now", MOMENT)
    row = EscalationRow
    current = sa.and_(
        col(row.found).is_not(None),
        col(row.sequence) == col(LedgerHeadRow.sequence),
        # By a clock that was ahead it was another's to find.
        col(row.made_at) <= now,
        col(row.until) > now,
    )
    return (
        sa.select(col(row.found), col(row.made_at), col(row.took_seconds), col(row.asked_at), current)
        .join(LedgerHeadRow, col(LedgerHeadRow.directory_id) == col(row.directory_id))
        .where(col(row.directory_id) == parameter("directory", sa.Uuid))
    )


def until(session: Session, directory_id: UUID, now: datetime) -> datetime:
    """Return the first moment to come at which something begins or ends that escalation follows from."""
    looked = sa.select(sa.func.min(col(AuditStateRow.next_at))).where(
        col(AuditStateRow.directory_id) == directory_id, col(AuditStateRow.next_at) > now
    )
    held = sa.func.unnest(array([col(AssignmentRow.assigned_at), col(AssignmentRow.expires_at)]))
    assigned = (
        sa.select(held.label("at"))
        .select_from(AssignmentRow)
        .join(RoleRow, col(RoleRow.id) == col(AssignmentRow.role_id))
        .where(col(RoleRow.directory_id) == directory_id)
        .subquery()
    )
    roles = sa.select(sa.func.min(assigned.c.at)).where(assigned.c.at > now)
    first = session.execute(sa.select(sa.func.least(looked.scalar_subquery(), roles.scalar_subquery()))).scalar_one()
    return min(first or now + LONGEST_KEPT, now + LONGEST_KEPT)


def keep(session: Session, directory_id: UUID, kept: Kept, sequence: int, until: datetime) -> None:
    """Keep what was found, unless another found it later."""
    values = {
        "sequence": sequence,
        "made_at": kept.made_at,
        "until": until,
        "found": kept.found,
        "took_seconds": kept.took.total_seconds(),
    }
    made = insert(EscalationRow).values(directory_id=directory_id, **values)
    session.execute(
        made.on_conflict_do_update(
            index_elements=["directory_id"], set_=values, where=col(EscalationRow.sequence) <= sequence
        )
    )


def note_asked(session: Session, directory_id: UUID, now: datetime) -> None:
    """Note that somebody waits for a round to find them."""
    asked = insert(EscalationRow).values(
        directory_id=directory_id, sequence=0, until=now, took_seconds=0.0, asked_at=now
    )
    long_ago = col(EscalationRow.asked_at).is_(None) | (col(EscalationRow.asked_at) < now - NOTED_EVERY)
    session.execute(
        asked.on_conflict_do_update(index_elements=["directory_id"], set_={"asked_at": now}, where=long_ago)
    )
