"""Initial access tokens, and the clients that software registered with them: what opens either is in no record."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import moment, words


class InitialAccessRow(SQLModel, table=True):
    """`owners`: ids of the people who will own what is registered. `used`: how many clients were."""

    __tablename__ = "initial_access"

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id", index=True)
    label: str = Field(sa_type=Text)
    made_at: datetime = moment()
    made_by: str = Field(sa_type=Text)
    made_by_id: str = Field(sa_type=Text)
    owners: list[str] = words()
    uses: int
    used: int = 0
    expires_at: datetime = moment(index=True)
    ended_at: datetime | None = moment(nullable=True)


class DynamicRegistrationRow(SQLModel, table=True):
    """A client that registered itself. `method`: how it said that it proves itself (RFC 7591 section 2)."""

    __tablename__ = "dynamic_registration"

    client_id: str = Field(sa_column=Column(ForeignKey("client.id"), primary_key=True))
    label: str = Field(sa_type=Text)
    method: str = Field(sa_type=Text)
    at: datetime = moment()
    ended_at: datetime | None = moment(nullable=True)


def access_by_id(session: Session, access_id: UUID, *, lock: bool = False) -> InitialAccessRow | None:
    return session.get(InitialAccessRow, access_id, with_for_update=True if lock else None)


def accesses_of(session: Session, directory_id: UUID, limit: int) -> list[InitialAccessRow]:
    """Return those of a directory, the latest first."""
    found = select(InitialAccessRow).where(InitialAccessRow.directory_id == directory_id)
    return list(session.exec(found.order_by(col(InitialAccessRow.made_at).desc()).limit(limit)))


def count_open(session: Session, directory_id: UUID, now: datetime) -> int:
    counted = sa.select(sa.func.count()).where(
        col(InitialAccessRow.directory_id) == directory_id,
        col(InitialAccessRow.ended_at).is_(None),
        col(InitialAccessRow.expires_at) > now,
        col(InitialAccessRow.used) < col(InitialAccessRow.uses),
    )
    return int(session.execute(counted).scalar_one())


def registered_itself(session: Session, client_id: str) -> bool:
    return session.get(DynamicRegistrationRow, client_id) is not None
