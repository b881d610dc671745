"""Whom to tell that somebody signed out: rows that whatever ends an access makes (by a trigger, migration 0034)."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Index, Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import moment
from jamb.store.clients.clients import ClientRow
from jamb.store.directory.directories import DirectoryRow

# How long nobody else takes what one has taken: longer than it takes to be told.
TAKEN_FOR = timedelta(seconds=60)


class SignOutNoticeRow(SQLModel, table=True):
    """A client is to be told that a person signed out. It is deleted when it was told, or given up."""

    __tablename__ = "sign_out_notice"
    __table_args__ = (
        UniqueConstraint("authorization_id", name="told_once_of_sign_out"),
        Index("sign_out_notice_due", "next_at"),
    )

    id: UUID = Field(primary_key=True)
    authorization_id: UUID
    client_id: str = Field(foreign_key="client.id", sa_type=Text)
    person_id: UUID
    directory_id: UUID = Field(foreign_key="directory.id")
    made_at: datetime = moment()
    next_at: datetime = moment()
    tries: int = 0
    error: str = Field(default="", sa_type=Text)


def any_due(session: Session, now: datetime) -> bool:
    """Tell whether somebody is to be told, without taking anything."""
    return session.exec(select(SignOutNoticeRow.id).where(SignOutNoticeRow.next_at <= now).limit(1)).first() is not None


def take_due(session: Session, now: datetime, most: int) -> Sequence[tuple[SignOutNoticeRow, str, str]]:
    """Return notices that are due, each with its address and the directory's slug; no other process takes them."""
    rows = session.exec(
        select(SignOutNoticeRow, ClientRow.backchannel_logout_uri, DirectoryRow.slug)
        .join(ClientRow, col(ClientRow.id) == SignOutNoticeRow.client_id)
        .join(DirectoryRow, col(DirectoryRow.id) == SignOutNoticeRow.directory_id)
        .where(SignOutNoticeRow.next_at <= now)
        .order_by(col(SignOutNoticeRow.next_at))
        .limit(most)
        .with_for_update(skip_locked=True, of=SignOutNoticeRow)
    ).all()
    for row, _, _ in rows:
        row.next_at = now + TAKEN_FOR
        session.add(row)
    return rows


def told(session: Session, notice_id: UUID) -> None:
    """Forget a notice: it was told, or nobody would listen any more."""
    session.execute(sa.delete(SignOutNoticeRow).where(col(SignOutNoticeRow.id) == notice_id))


def put_off(session: Session, notice_id: UUID, error: str, until: datetime) -> None:
    """Tell it later."""
    row = session.get(SignOutNoticeRow, notice_id, with_for_update=True)
    if row is not None:
        row.tries, row.error, row.next_at = row.tries + 1, error[:300], until
        session.add(row)
