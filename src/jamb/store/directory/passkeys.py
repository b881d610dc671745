"""Passkeys of people: of each the public key alone."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, LargeBinary, Text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import blob, moment


class PasskeyRow(SQLModel, table=True):
    """`credential_id`: by which browsers and devices know it. `uses`: the device's own count, if it keeps one."""

    __tablename__ = "passkey"

    id: UUID = Field(primary_key=True)
    person_id: UUID = Field(sa_column=Column(ForeignKey("person.id", ondelete="CASCADE"), nullable=False, index=True))
    credential_id: bytes = Field(sa_column=Column(LargeBinary, nullable=False, unique=True))
    public_key: bytes = blob()
    uses: int = Field(default=0, sa_column=Column(sa.BigInteger, nullable=False))
    name: str = Field(sa_type=Text)
    made_at: datetime = moment()
    last_used_at: datetime | None = moment(nullable=True)


def passkeys_of(session: Session, person_id: UUID) -> list[PasskeyRow]:
    """Return the passkeys of a person, the oldest first."""
    found = select(PasskeyRow).where(PasskeyRow.person_id == person_id)
    return list(session.exec(found.order_by(col(PasskeyRow.made_at), col(PasskeyRow.id))))


def by_credential(session: Session, credential_id: bytes) -> PasskeyRow | None:
    """Return a passkey, locked."""
    found = select(PasskeyRow).where(PasskeyRow.credential_id == credential_id)
    return session.exec(found.with_for_update()).first()


def is_there(session: Session, passkey_id: UUID) -> bool:
    return session.exec(select(PasskeyRow.id).where(PasskeyRow.id == passkey_id)).first() is not None


def has_one(session: Session, person_id: UUID) -> bool:
    return session.exec(select(PasskeyRow.id).where(PasskeyRow.person_id == person_id).limit(1)).first() is not None


def forget_all(session: Session, person_id: UUID) -> bool:
    """Take all passkeys of a person away; tell whether there was one."""
    gone = sa.delete(PasskeyRow).where(col(PasskeyRow.person_id) == person_id).returning(col(PasskeyRow.id))
    return session.execute(gone).first() is not None
