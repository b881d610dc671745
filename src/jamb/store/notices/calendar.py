"""Calendar feeds: of a feed's key only the digest is kept."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import UniqueConstraint
from sqlmodel import Field, Session, SQLModel, select

from jamb.store.base.columns import blob, moment


class CalendarFeedRow(SQLModel, table=True):
    """One person's feed: of what they own (`whole` false), or of the whole directory. A new one ends the old."""

    __tablename__ = "calendar_feed"
    __table_args__ = (UniqueConstraint("digest", name="calendar_feed_digest"),)

    person_id: UUID = Field(foreign_key="person.id", primary_key=True)
    whole: bool = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    digest: bytes = blob()
    made_at: datetime = moment()
    read_at: datetime | None = moment(nullable=True)


def feed_by_digest(session: Session, digest: bytes) -> CalendarFeedRow | None:
    return session.exec(select(CalendarFeedRow).where(CalendarFeedRow.digest == digest)).first()
