"""Directories and their signing keys."""

from __future__ import annotations

from dataclasses import asdict
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import Text, UniqueConstraint, text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import DirectoryPolicy, Registering
from jamb.core.directory.signing_keys import SigningAlgorithm, signing_of
from jamb.store.base.columns import blob, document, moment

# Any constant will do that no other lock has; it is only ever compared with itself.
_ALL = 0x6A616D63


class DirectoryRow(SQLModel, table=True):
    __tablename__ = "directory"
    __table_args__ = (UniqueConstraint("slug", name="directory_slug_taken"),)

    id: UUID = Field(primary_key=True)
    slug: str = Field(sa_type=Text)
    name: str = Field(sa_type=Text)
    domain: str = Field(sa_type=Text)
    policy: dict[str, Any] = document()
    created_at: datetime = moment()
    # Nobody signs in, gets a token or administers until it is resumed.
    suspended_at: datetime | None = moment(nullable=True)

    def value(self) -> Directory:
        suspended = self.suspended_at is not None
        return Directory(self.id, self.slug, self.name, self.domain, self.policy_of(), suspended)

    def policy_of(self) -> DirectoryPolicy:
        kept = dict(self.policy)
        kept["registering"] = Registering(kept.get("registering", Registering.NOBODY))
        kept["registering_groups"] = tuple(kept.get("registering_groups", ()))
        return DirectoryPolicy(**kept)


class SigningKeyRow(SQLModel, table=True):
    """A signing key of a directory. The private part is sealed.

    `signs_from`: until then it is published, and signs nothing. `withdrawn_at`: since then nothing it signed is good.
    """

    __tablename__ = "signing_key"

    kid: str = Field(primary_key=True, sa_type=Text)
    directory_id: UUID = Field(foreign_key="directory.id", index=True)
    algorithm: str = Field(sa_type=Text)
    public_jwk: dict[str, Any] = document()
    sealed: bytes = blob()
    created_at: datetime = moment()
    signs_from: datetime = moment()
    withdrawn_at: datetime | None = moment(nullable=True)


def policy_document(policy: DirectoryPolicy) -> dict[str, Any]:
    return asdict(policy)


def by_slug(session: Session, slug: str, *, lock: bool = False) -> DirectoryRow | None:
    statement = select(DirectoryRow).where(DirectoryRow.slug == slug)
    return session.exec(statement.with_for_update() if lock else statement).first()


def id_of(session: Session, slug: str) -> UUID | None:
    return session.exec(select(DirectoryRow.id).where(DirectoryRow.slug == slug)).first()


def all_directories(session: Session) -> list[DirectoryRow]:
    return list(session.exec(select(DirectoryRow).order_by(DirectoryRow.slug)))


def signing_in(session: Session, slug: str, domain: str, most: int) -> list[DirectoryRow]:
    """Return the directory of this name, else those of a domain, that nobody suspended."""
    where = DirectoryRow.slug == slug if slug else (DirectoryRow.domain == domain) & (DirectoryRow.domain != "")
    found = select(DirectoryRow).where(where, col(DirectoryRow.suspended_at).is_(None))
    return list(session.exec(found.order_by(DirectoryRow.slug).limit(most)))


def lock_all(session: Session) -> None:
    """Wait until no other transaction opens a directory or changes all of them; none does until this one ends.

    A lock of rows would not do: it knows nothing of a directory that is being opened.
    """
    session.execute(text("select pg_advisory_xact_lock(:key)"), {"key": _ALL})


def signing_keys(session: Session, directory_id: UUID) -> list[SigningKeyRow]:
    """Return all, also withdrawn ones, newest first."""
    newest = col(SigningKeyRow.signs_from).desc()
    wanted = select(SigningKeyRow).where(SigningKeyRow.directory_id == directory_id)
    return list(session.exec(wanted.order_by(newest, SigningKeyRow.kid)))


def signing_key(session: Session, directory_id: UUID, algorithm: SigningAlgorithm, now: datetime) -> SigningKeyRow:
    """Return the key that signs by an algorithm. A directory always has one of ES256, which stands in for a while."""
    keys = signing_keys(session, directory_id)
    found = signing_of(keys, algorithm, now) or signing_of(keys, SigningAlgorithm.ES256, now)
    assert found is not None
    return found
