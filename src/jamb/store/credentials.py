"""Client secrets (only their keyed digests) and device authorizations (RFC 8628)."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from uuid import UUID

from sqlalchemy import Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.columns import among, blob, moment


class CredentialRow(SQLModel, table=True):
    __tablename__ = "credential"
    __table_args__ = (UniqueConstraint("digest", name="credential_digest"),)

    id: UUID = Field(primary_key=True)
    client_id: str = Field(foreign_key="client.id", sa_type=Text, index=True)
    kind: str = Field(sa_type=Text)
    hint: str = Field(sa_type=Text)
    digest: bytes = blob()
    issued_at: datetime = moment()
    issued_by: str = Field(sa_type=Text)
    expires_at: datetime | None = moment(nullable=True)
    withdrawn_at: datetime | None = moment(nullable=True)
    first_used_at: datetime | None = moment(nullable=True)
    last_used_at: datetime | None = moment(nullable=True)


class DeviceRequestRow(SQLModel, table=True):
    """A device that waits for a person's yes. Only digests of its codes are kept."""

    __tablename__ = "device_request"
    __table_args__ = (
        UniqueConstraint("device_digest", name="device_code"),
        UniqueConstraint("user_digest", name="user_code"),
    )

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    client_id: str = Field(foreign_key="client.id", sa_type=Text)
    device_digest: bytes = blob()
    user_digest: bytes = blob()
    state: str = Field(sa_type=Text)
    created_at: datetime = moment()
    expires_at: datetime = moment()
    polled_at: datetime | None = moment(nullable=True)
    interval_seconds: int = 5
    person_id: UUID | None = Field(default=None, foreign_key="person.id")
    # While the person stays signed in with it; set when they sign out.
    ended_at: datetime | None = moment(nullable=True)


def credentials_of(session: Session, client_ids: Iterable[str]) -> list[CredentialRow]:
    """Newest first."""
    return list(
        session.exec(
            select(CredentialRow)
            .where(among(CredentialRow.client_id, client_ids))
            .order_by(col(CredentialRow.issued_at).desc())
        )
    )


def device_by_digest(
    session: Session, directory_id: UUID, *, device: bytes | None = None, user: bytes | None = None
) -> DeviceRequestRow | None:
    """Find by either code's digest and lock it, so that two processes never answer it twice."""
    statement = select(DeviceRequestRow).where(DeviceRequestRow.directory_id == directory_id).with_for_update()
    if device is not None:
        statement = statement.where(DeviceRequestRow.device_digest == device)
    if user is not None:
        statement = statement.where(DeviceRequestRow.user_digest == user)
    return session.exec(statement).first()
