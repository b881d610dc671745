"""Changes that a caller named by a key, so that each is done once however often it is asked for."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import Column, ForeignKey, PrimaryKeyConstraint, Text
from sqlmodel import Field, Session, SQLModel

from jamb.store.base.columns import blob, document, moment


class OnceRow(SQLModel, table=True):
    """`request`: digest of what was asked for; `made`: the subject of the change, as in its ledger entry.

    Kept as long as the ledger is: a set-up that runs again next year must still change nothing.
    """

    __tablename__ = "done_once"
    __table_args__ = (PrimaryKeyConstraint("directory_id", "actor_id", "key", name="done_once_key"),)

    directory_id: UUID = Field(sa_column=Column(ForeignKey("directory.id")))
    actor_id: str = Field(sa_type=Text)
    key: str = Field(sa_type=Text)
    request: bytes = blob()
    made: dict[str, str] = document()
    at: datetime = moment()


def done_before(session: Session, directory_id: UUID, actor_id: str, key: str) -> OnceRow | None:
    return session.get(OnceRow, (directory_id, actor_id, key))
