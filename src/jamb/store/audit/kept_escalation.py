"""The escalation paths of a directory as they were found last, and whether they can have changed since.

They follow from records, each change of which is in the ledger, and from time: a role or a consent that begins or ends.
"""

from __future__ import annotations

from datetime import datetime, timedelta
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import BigInteger, Column, ForeignKey
from sqlalchemy.dialects.postgresql import array, insert
from sqlmodel import Field, Session, SQLModel, col

from jamb.store.audit.findings import AuditStateRow
from jamb.store.base.columns import MOMENT, document, moment, parameter
from jamb.store.directory.ledger import LedgerHeadRow
from jamb.store.directory.roles import AssignmentRow, RoleRow

# Whatever else may tell: no older than this.
LONGEST_KEPT = timedelta(hours=1)


class EscalationRow(SQLModel, table=True):
    """`sequence`: of the last entry of the ledger that they follow from; `until`: when time changes the first of it."""

    __tablename__ = "escalation"

    directory_id: UUID = Field(sa_column=Column(ForeignKey("directory.id"), primary_key=True))
    sequence: int = Field(sa_column=Column(BigInteger, nullable=False))
    made_at: datetime = moment()
    until: datetime = moment()
    found: dict[str, Any] = document()


def find(session: Session, directory_id: UUID, now: datetime) -> dict[str, Any] | None:
    """Return what was found last, if it is still so."""
    return session.execute(_still_so(), {"directory": directory_id, "now": now}).scalar_one_or_none()


@cache
def _still_so() -> sa.Select[dict[str, Any]]:
    now = parameter("now", MOMENT)
    return (
        sa.select(col(EscalationRow.found))
        .join(LedgerHeadRow, col(LedgerHeadRow.directory_id) == col(EscalationRow.directory_id))
        .where(
            col(EscalationRow.directory_id) == parameter("directory", sa.Uuid),
            col(EscalationRow.sequence) == col(LedgerHeadRow.sequence),
            # By a clock that was ahead it was another's to find.
            col(EscalationRow.made_at) <= now,
            col(EscalationRow.until) > now,
        )
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


def keep(
    session: Session, directory_id: UUID, sequence: int, found: dict[str, Any], now: datetime, until: datetime
) -> None:
    """Keep what was found, unless another found it later."""
    values = {"sequence": sequence, "made_at": now, "until": until, "found": found}
    made = insert(EscalationRow).values(directory_id=directory_id, **values)
    session.execute(
        made.on_conflict_do_update(
            index_elements=["directory_id"], set_=values, where=col(EscalationRow.sequence) <= sequence
        )
    )
