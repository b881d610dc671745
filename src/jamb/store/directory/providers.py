"""Outside OpenID providers of a directory, and whom their subjects are here."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Index, Text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.directory.providers import Provider
from jamb.store.base.columns import among_ids, blob, document, moment


class ProviderRow(SQLModel, table=True):
    """`secret`: sealed; None: it takes none. `groups`: names of groups here, by what the provider calls them."""

    __tablename__ = "sign_in_provider"
    __table_args__ = (Index("provider_name_taken", "directory_id", "name", unique=True),)

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    name: str = Field(sa_type=Text)
    title: str = Field(sa_type=Text)
    issuer: str = Field(sa_type=Text)
    client_id: str = Field(sa_type=Text)
    secret: bytes | None = blob(nullable=True)
    adds_people: bool = False
    groups_claim: str = Field(sa_type=Text)
    groups: Mapping[str, str] = document()
    made_at: datetime = moment()
    made_by: str = Field(sa_type=Text)

    def value(self) -> Provider:
        return Provider(
            self.name, self.title, self.issuer, self.client_id, self.adds_people, self.groups_claim, dict(self.groups)
        )


class ProviderSubjectRow(SQLModel, table=True):
    """Whom a provider means by a subject: for good, whatever becomes of the mail address."""

    __tablename__ = "provider_subject"

    provider_id: UUID = Field(sa_column=Column(ForeignKey("sign_in_provider.id", ondelete="CASCADE"), primary_key=True))
    subject: str = Field(sa_column=Column(Text, primary_key=True))
    person_id: UUID = Field(sa_column=Column(ForeignKey("person.id", ondelete="CASCADE"), nullable=False, index=True))
    linked_at: datetime = moment()


def providers_of(session: Session, directory_id: UUID) -> list[ProviderRow]:
    found = select(ProviderRow).where(ProviderRow.directory_id == directory_id)
    return list(session.exec(found.order_by(ProviderRow.title)))


def by_name(session: Session, directory_id: UUID, name: str, *, lock: bool = False) -> ProviderRow | None:
    found = select(ProviderRow).where(ProviderRow.directory_id == directory_id, ProviderRow.name == name)
    return session.exec(found.with_for_update() if lock else found).first()


def linked(session: Session, provider_id: UUID, subject: str) -> UUID | None:
    """Return whom a provider means by a subject."""
    row = session.get(ProviderSubjectRow, (provider_id, subject))
    return row.person_id if row is not None else None


def still_linked(session: Session, provider_id: UUID, subject: str) -> UUID | None:
    """The same, kept until the transaction ends: whoever ends the link waits for it."""
    kept = select(ProviderSubjectRow.person_id).where(
        ProviderSubjectRow.provider_id == provider_id, ProviderSubjectRow.subject == subject
    )
    return session.exec(kept.with_for_update(read=True, key_share=True)).first()


def has_link(session: Session, provider_id: UUID, person_id: UUID) -> bool:
    """Return whether a provider means a person by some subject."""
    mine = select(ProviderSubjectRow.subject).where(
        ProviderSubjectRow.provider_id == provider_id, ProviderSubjectRow.person_id == person_id
    )
    return session.exec(mine.limit(1)).first() is not None


def titles_by_person(session: Session, person_ids: Iterable[UUID]) -> dict[UUID, list[str]]:
    """Return by which providers these people sign in, by title."""
    found = (
        select(ProviderSubjectRow.person_id, ProviderRow.title)
        .join(ProviderRow, col(ProviderRow.id) == ProviderSubjectRow.provider_id)
        .where(among_ids(ProviderSubjectRow.person_id, person_ids))
        .distinct()
    )
    titles: dict[UUID, list[str]] = {}
    for person_id, title in session.exec(found):
        titles.setdefault(person_id, []).append(title)
    return {person_id: sorted(those) for person_id, those in titles.items()}


def end_links(session: Session, person_id: UUID) -> bool:
    """Forget by which subjects providers mean a person; tell whether there were any."""
    mine = sa.delete(ProviderSubjectRow).where(col(ProviderSubjectRow.person_id) == person_id)
    ended = session.execute(mine.returning(col(ProviderSubjectRow.subject)))
    return bool(ended.all())


def linked_to(session: Session, provider_id: UUID) -> list[UUID]:
    """Return whom a provider means by any subject."""
    found = select(ProviderSubjectRow.person_id).where(ProviderSubjectRow.provider_id == provider_id)
    return sorted(set(session.exec(found)))


def how_many_linked(session: Session, provider_ids: list[UUID]) -> dict[UUID, int]:
    counted = sa.select(col(ProviderSubjectRow.provider_id), sa.func.count()).group_by(
        col(ProviderSubjectRow.provider_id)
    )
    rows = session.execute(counted.where(col(ProviderSubjectRow.provider_id).in_(provider_ids)))
    return {key: int(many) for key, many in rows}
