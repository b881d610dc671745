"""Second factors of people: the sealed key of a device, and digests of the codes for when it is lost."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import among_ids, blob, moment
from jamb.store.directory.passkeys import PasskeyRow
from jamb.store.directory.people import PersonRow


class SecondFactorRow(SQLModel, table=True):
    """The device of a person. It counts when a code of it was typed: `confirmed_at`. `last_step`: codes count once."""

    __tablename__ = "second_factor"

    person_id: UUID = Field(sa_column=Column(ForeignKey("person.id", ondelete="CASCADE"), primary_key=True))
    sealed: bytes = blob()
    made_at: datetime = moment()
    confirmed_at: datetime | None = moment(nullable=True)
    last_step: int = Field(default=0, sa_column=Column(sa.BigInteger, nullable=False))


class RecoveryCodeRow(SQLModel, table=True):
    """A code that takes the place of the device, once."""

    __tablename__ = "recovery_code"

    person_id: UUID = Field(sa_column=Column(ForeignKey("person.id", ondelete="CASCADE"), primary_key=True))
    digest: bytes = blob(primary_key=True)


def held(session: Session, person_id: UUID, *, lock: bool = False) -> SecondFactorRow | None:
    return session.get(SecondFactorRow, person_id, with_for_update=True if lock else None)


def is_set(session: Session, person_id: UUID) -> bool:
    row = held(session, person_id)
    return row is not None and row.confirmed_at is not None


def among_people(session: Session, person_ids: Iterable[UUID]) -> set[UUID]:
    """Return those of these people who sign in with a second factor: a device that makes codes, or a passkey."""
    device = select(SecondFactorRow.person_id).where(col(SecondFactorRow.confirmed_at).is_not(None))
    either = device.union(select(PasskeyRow.person_id)).subquery()
    found = sa.select(col(PersonRow.id)).where(
        among_ids(PersonRow.id, person_ids), col(PersonRow.id).in_(sa.select(either.c.person_id))
    )
    return set(session.execute(found).scalars())


def use_recovery_code(session: Session, person_id: UUID, digest: bytes) -> bool:
    """Take a recovery code away; tell whether it was there."""
    gone = sa.delete(RecoveryCodeRow).where(
        col(RecoveryCodeRow.person_id) == person_id, col(RecoveryCodeRow.digest) == digest
    )
    return session.execute(gone.returning(col(RecoveryCodeRow.person_id))).first() is not None


def recovery_codes_left(session: Session, person_id: UUID) -> int:
    found = select(sa.func.count()).select_from(RecoveryCodeRow).where(RecoveryCodeRow.person_id == person_id)
    return int(session.exec(found).one())


def keep_recovery_codes(session: Session, person_id: UUID, digests: Iterable[bytes]) -> None:
    """Put these in place of those that there were."""
    session.execute(sa.delete(RecoveryCodeRow).where(col(RecoveryCodeRow.person_id) == person_id))
    session.add_all(RecoveryCodeRow(person_id=person_id, digest=digest) for digest in digests)


def take_off(session: Session, person_id: UUID, *, with_codes: bool) -> bool:
    """Take the device away, and recovery codes where nothing else needs them; tell whether it was there."""
    if with_codes:
        session.execute(sa.delete(RecoveryCodeRow).where(col(RecoveryCodeRow.person_id) == person_id))
    gone = sa.delete(SecondFactorRow).where(col(SecondFactorRow.person_id) == person_id)
    return session.execute(gone.returning(col(SecondFactorRow.person_id))).first() is not None
