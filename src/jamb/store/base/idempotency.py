"""Changes that a caller named by a key, so that each is done once however often it is asked for."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import Column, ForeignKey, PrimaryKeyConstraint, Text
from sqlmodel import Field, Session, SQLModel

from jamb.core.errors import DoneBefore, Unsuited
from jamb.store.base.actor import Actor
from jamb.store.base.columns import blob, document, moment

HEADER = "Idempotency-Key"


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


def refuse_repeated(session: Session, directory_id: UUID, actor: Actor) -> None:
    """Refuse a change whose key was used.

    Raises:
        DoneBefore: it was done; the error has what it made. Unsuited: the key was used for another request.
    """
    if actor.once is None:
        return
    found = session.get(OnceRow, (directory_id, actor.id, actor.once.key))
    if found is None:
        return
    if found.request != actor.once.request:
        allowed = "a key that you did not use for another request"
        raise Unsuited.field(HEADER, actor.once.key, allowed, "Choose another key.")
    raise DoneBefore.of(found.made, found.at)
