"""Clients, their owners, asks and grants."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, datetime, timedelta
from enum import StrEnum
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Index, Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.access import HeldAsk, HeldGrant
from jamb.core.permissions import AccessKind
from jamb.store.columns import among, moment
from jamb.store.people import PersonRow


class ClientRow(SQLModel, table=True):
    """A registered client application. `builtin` ones are parts of Jamb itself and hidden from lists."""

    __tablename__ = "client"
    __table_args__ = (
        UniqueConstraint("directory_id", "folded_name", name="client_name_taken"),
        Index("client_by_registration", "directory_id", "registered_at", "id"),
    )

    id: str = Field(primary_key=True, sa_type=Text)
    directory_id: UUID = Field(foreign_key="directory.id")
    name: str = Field(sa_type=Text)
    folded_name: str = Field(sa_type=Text)
    purpose: str = Field(sa_type=Text)
    kind: str = Field(sa_type=Text)
    state: str = Field(sa_type=Text)
    builtin: bool = False
    registered_at: datetime = moment()
    registered_by: str = Field(sa_type=Text)


class ClientOwnerRow(SQLModel, table=True):
    __tablename__ = "client_owner"

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), primary_key=True))
    person_id: UUID = Field(sa_column=Column(ForeignKey("person.id"), primary_key=True, index=True))


class AskRow(SQLModel, table=True):
    """A permission that a registration says it needs. It opens nothing."""

    __tablename__ = "ask"
    __table_args__ = (UniqueConstraint("client_id", "resource_id", "permission", "kind", name="already_asked"),)

    id: UUID = Field(primary_key=True)
    client_id: str = Field(foreign_key="client.id", sa_type=Text)
    resource_id: UUID = Field(foreign_key="resource.id")
    permission: str = Field(sa_type=Text)
    kind: str = Field(sa_type=Text)
    reason: str = Field(sa_type=Text)
    asked_at: datetime = moment()
    asked_by: str = Field(sa_type=Text)

    def held(self) -> HeldAsk:
        return HeldAsk(self.permission, AccessKind(self.kind), self.asked_at)


class GrantRow(SQLModel, table=True):
    """A permission that the directory consented to."""

    __tablename__ = "consent"
    __table_args__ = (Index("consent_by_client", "client_id", "resource_id"),)

    id: UUID = Field(primary_key=True)
    client_id: str = Field(foreign_key="client.id", sa_type=Text)
    resource_id: UUID = Field(foreign_key="resource.id")
    permission: str = Field(sa_type=Text)
    kind: str = Field(sa_type=Text)
    granted_at: datetime = moment()
    granted_by: str = Field(sa_type=Text)
    expires_at: datetime | None = moment(nullable=True)

    def held(self) -> HeldGrant:
        return HeldGrant(self.permission, AccessKind(self.kind), self.granted_at, self.expires_at)


def by_id(session: Session, directory_id: UUID, client_id: str, *, lock: bool = False) -> ClientRow | None:
    statement = select(ClientRow).where(ClientRow.id == client_id, ClientRow.directory_id == directory_id)
    return session.exec(statement.with_for_update() if lock else statement).first()


def known(session: Session, directory_id: UUID, client_ids: Iterable[str]) -> set[str]:
    """Return those of the ids that are clients of the directory."""
    wanted = select(ClientRow.id).where(ClientRow.directory_id == directory_id, among(ClientRow.id, client_ids))
    return set(session.exec(wanted))


def asks_of(session: Session, client_ids: Iterable[str]) -> list[AskRow]:
    return list(session.exec(select(AskRow).where(among(AskRow.client_id, client_ids))))


def grants_of(session: Session, client_ids: Iterable[str]) -> list[GrantRow]:
    return list(session.exec(select(GrantRow).where(among(GrantRow.client_id, client_ids))))


def owners_of(session: Session, client_ids: Iterable[str]) -> dict[str, list[tuple[UUID, str]]]:
    """Return (person id, name) of the owners by client."""
    found: dict[str, list[tuple[UUID, str]]] = {}
    rows = session.exec(
        select(ClientOwnerRow.client_id, PersonRow.id, PersonRow.name)
        .join(PersonRow, col(PersonRow.id) == ClientOwnerRow.person_id)
        .where(among(ClientOwnerRow.client_id, client_ids))
        .order_by(PersonRow.name)
    )
    for client_id, person_id, name in rows:
        found.setdefault(client_id, []).append((person_id, name))
    return found


class ClientSort(StrEnum):
    NAME = "name"
    REGISTERED = "registered"
    ENDS = "ends"
    USED = "used"


class Attention(StrEnum):
    """What a client may need attention for; each is one condition of the list."""

    WAITING = "waiting"
    ENDING = "ending"
    DEAD_SECRET = "dead-secret"  # noqa: S105 - the name of a filter
    OWNERLESS = "ownerless"


# What sorts last when there is nothing to sort by.
_NEVER = sa.literal(datetime(9999, 1, 1, tzinfo=UTC), sa.DateTime(timezone=True))
_LONG_AGO = sa.literal(datetime(1, 1, 2, tzinfo=UTC), sa.DateTime(timezone=True))


def list_page(
    session: Session,
    directory_id: UUID,
    *,
    now: datetime,
    notice: timedelta,
    query: str,
    attention: Attention | None,
    sort: ClientSort,
    after: tuple[str, str] | None,
    limit: int,
) -> tuple[list[tuple[str, str]], int]:
    """Return (id, sort value as text) of one page after a cursor, and how many clients match in all."""
    key = _sort_key(sort, now)
    wanted = sa.select(col(ClientRow.id), key.label("key")).where(
        col(ClientRow.directory_id) == directory_id, ~col(ClientRow.builtin)
    )
    if query:
        pattern = "%" + query.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
        wanted = wanted.where(
            col(ClientRow.name).ilike(pattern)
            | col(ClientRow.purpose).ilike(pattern)
            | (col(ClientRow.id) == query.strip())
        )
    if attention is not None:
        wanted = wanted.where(_needs(attention, now, notice))
    total = session.execute(sa.select(sa.func.count()).select_from(wanted.subquery())).scalar_one()
    if after is not None:
        value = sa.cast(sa.literal(after[0]), key.type)
        wanted = wanted.where(sa.tuple_(key, col(ClientRow.id)) > sa.tuple_(value, sa.literal(after[1])))
    rows = session.execute(wanted.order_by(key, col(ClientRow.id)).limit(limit)).all()
    return [(row.id, row.key.isoformat() if isinstance(row.key, datetime) else row.key) for row in rows], total


def _sort_key(sort: ClientSort, now: datetime) -> sa.ColumnElement[Any]:
    if sort is ClientSort.NAME:
        return sa.type_coerce(col(ClientRow.folded_name).collate("C"), Text)
    if sort is ClientSort.REGISTERED:
        return sa.type_coerce(col(ClientRow.registered_at), sa.DateTime(timezone=True))
    credential = SQLModel.metadata.tables["credential"]
    mine = credential.c.client_id == ClientRow.id
    if sort is ClientSort.ENDS:
        soonest = sa.select(sa.func.min(credential.c.expires_at)).where(
            mine, credential.c.withdrawn_at.is_(None), credential.c.expires_at > now
        )
        return sa.func.coalesce(soonest.correlate(ClientRow).scalar_subquery(), _NEVER)
    latest = sa.select(sa.func.max(credential.c.last_used_at)).where(mine).correlate(ClientRow).scalar_subquery()
    # Unused first: whoever sorts by use looks for what nobody uses.
    return sa.func.coalesce(latest, _LONG_AGO)


def _needs(attention: Attention, now: datetime, notice: timedelta) -> sa.ColumnElement[bool]:
    credential = SQLModel.metadata.tables["credential"]
    standing = (credential.c.client_id == ClientRow.id) & credential.c.withdrawn_at.is_(None)
    match attention:
        case Attention.WAITING:
            granted = sa.exists().where(
                col(GrantRow.client_id) == AskRow.client_id,
                col(GrantRow.resource_id) == AskRow.resource_id,
                col(GrantRow.permission) == AskRow.permission,
                col(GrantRow.kind) == AskRow.kind,
            )
            return sa.exists().where(col(AskRow.client_id) == ClientRow.id, ~granted)
        case Attention.ENDING:
            return sa.exists().where(standing, credential.c.expires_at > now, credential.c.expires_at <= now + notice)
        case Attention.DEAD_SECRET:
            return sa.exists().where(standing, credential.c.expires_at <= now)
        case Attention.OWNERLESS:
            return ~sa.exists().where(col(ClientOwnerRow.client_id) == ClientRow.id)
