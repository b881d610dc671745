"""What the service could not do for a directory, until it could."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from uuid import UUID

from sqlalchemy import Column, ForeignKey, PrimaryKeyConstraint, Text
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, SQLModel, col, delete, select

from jamb.core.directory.duties import ERROR_LONGEST, Duty, pause_after
from jamb.store.base.columns import moment


class FailingDutyRow(SQLModel, table=True):
    """`failures`: in a row; `again_at`: when it is tried next. There is a row only while it fails."""

    __tablename__ = "failing_duty"
    __table_args__ = (PrimaryKeyConstraint("directory_id", "duty", name="failing_duty_once"),)

    directory_id: UUID = Field(sa_column=Column(ForeignKey("directory.id"), nullable=False))
    duty: str = Field(sa_type=Text)
    failures: int
    since: datetime = moment()
    error: str = Field(sa_type=Text)
    again_at: datetime = moment()


def failing(session: Session, directory_id: UUID) -> Sequence[FailingDutyRow]:
    rows = select(FailingDutyRow).where(FailingDutyRow.directory_id == directory_id)
    return session.exec(rows.order_by(FailingDutyRow.duty)).all()


def note_failure(session: Session, directory_id: UUID, duty: Duty, error: str, now: datetime) -> None:
    """Put a duty aside for a while that grows with each failure."""
    row = session.get(FailingDutyRow, (directory_id, duty.value), with_for_update=True)
    failures = row.failures + 1 if row is not None else 1
    values = {"failures": failures, "error": error[:ERROR_LONGEST], "again_at": now + pause_after(failures)}
    statement = insert(FailingDutyRow).values(directory_id=directory_id, duty=duty.value, since=now, **values)
    session.execute(statement.on_conflict_do_update(constraint="failing_duty_once", set_=values))


def note_done(session: Session, directory_id: UUID, duty: Duty) -> None:
    session.exec(
        delete(FailingDutyRow).where(col(FailingDutyRow.directory_id) == directory_id, col(FailingDutyRow.duty) == duty)
    )
