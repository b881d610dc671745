"""People and their console sessions."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Index, Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base import pages
from jamb.store.base.columns import among, among_ids, blob, document, has, moment, one_of, parameter
from jamb.store.base.reading import Reading, Rows
from jamb.store.directory.directories import DirectoryRow

# In how many directories a password is tried where none was named.
MOST_DIRECTORIES = 4


class PersonRow(SQLModel, table=True):
    __tablename__ = "person"
    __table_args__ = (
        UniqueConstraint("directory_id", "login", name="person_login_taken"),
        Index("person_by_login", "login"),
        Index("person_by_name", "directory_id", "name", "id"),
    )

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id", index=True)
    login: str = Field(sa_type=Text)
    name: str = Field(sa_type=Text)
    password_hash: str | None = Field(default=None, sa_type=Text)
    # The person or client who chose the password for them; empty: they chose it, or have none.
    password_set_by: str = Field(default="", sa_type=Text)
    active: bool = True
    created_at: datetime = moment()
    recipient_key: dict[str, Any] | None = document(nullable=True)


class ConsoleSessionRow(SQLModel, table=True):
    """A signed-in browser. Only the digest of its cookie is kept."""

    __tablename__ = "console_session"
    __table_args__ = (Index("console_session_by_end", "expires_at"),)

    digest: bytes = blob(primary_key=True)
    person_id: UUID = Field(foreign_key="person.id", index=True)
    created_at: datetime = moment()
    seen_at: datetime = moment()
    expires_at: datetime = moment()
    # From where, and with which program, it was begun: for its person alone.
    address: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})
    user_agent: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})
    # Whether it began with a second factor.
    second_factor: bool = Field(default=False, sa_column_kwargs={"server_default": sa.false()})
    # Whether it began with a passkey, which is two factors.
    passkey: bool = Field(default=False, sa_column_kwargs={"server_default": sa.false()})
    # The name of the outside provider by which it began; empty: by none.
    provider: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})
    # When its person last showed, after it began, that it is they.
    confirmed_at: datetime | None = moment(nullable=True)


def sessions_of(session: Session, person_id: UUID, now: datetime, seen_since: datetime) -> list[ConsoleSessionRow]:
    """Return the console sessions of a person that have not expired and were used since, the one used last first."""
    return list(
        session.exec(
            select(ConsoleSessionRow)
            .where(
                ConsoleSessionRow.person_id == person_id,
                col(ConsoleSessionRow.expires_at) > now,
                col(ConsoleSessionRow.seen_at) > seen_since,
            )
            .order_by(col(ConsoleSessionRow.seen_at).desc())
        )
    )


def held_still(session: Session, person_id: UUID) -> PersonRow | None:
    """Return a person as they are until the transaction ends.

    Whoever changes them waits for it, and so ends the sign-in that is begun in it with all others.
    """
    return session.get(PersonRow, person_id, with_for_update={"read": True})


def still_signed_in(session: Session, person_id: UUID, digest: bytes) -> bool:
    """Return whether a console session is there, and stays until the transaction ends.

    Whoever ends it waits, and then ends what came of it. The person first, as all who end sessions have it.
    """
    session.execute(
        sa.select(col(PersonRow.id)).where(col(PersonRow.id) == person_id).with_for_update(key_share=True, read=True)
    )
    mine = sa.select(col(ConsoleSessionRow.digest)).where(col(ConsoleSessionRow.digest) == digest)
    return session.execute(mine.with_for_update(key_share=True, read=True)).first() is not None


def end_sessions(session: Session, person_id: UUID, but: bytes = b"") -> None:
    """End every console session of a person, `but` one."""
    mine = (col(ConsoleSessionRow.person_id) == person_id) & (col(ConsoleSessionRow.digest) != but)
    session.execute(sa.delete(ConsoleSessionRow).where(mine))


def end_session(session: Session, digest: bytes) -> bool:
    """End a console session; tell whether it was there."""
    mine = sa.delete(ConsoleSessionRow).where(col(ConsoleSessionRow.digest) == digest)
    return session.execute(mine.returning(col(ConsoleSessionRow.digest))).first() is not None


def end_sessions_by_provider(session: Session, directory_id: UUID, provider: str) -> None:
    """End every console session of a directory that began by an outside provider."""
    here = sa.select(col(PersonRow.id)).where(col(PersonRow.directory_id) == directory_id)
    begun = (col(ConsoleSessionRow.provider) == provider) & col(ConsoleSessionRow.person_id).in_(here)
    session.execute(sa.delete(ConsoleSessionRow).where(begun).execution_options(synchronize_session=False))


def note_second_factor(session: Session, digest: bytes) -> None:
    """Note that a second factor was shown in a console session."""
    mine = sa.update(ConsoleSessionRow).where(col(ConsoleSessionRow.digest) == digest)
    session.execute(mine.values(second_factor=True).execution_options(synchronize_session=False))


def note_passkey(session: Session, digest: bytes) -> None:
    """Note that a passkey was shown in a console session."""
    mine = sa.update(ConsoleSessionRow).where(col(ConsoleSessionRow.digest) == digest)
    kept = {"second_factor": True, "passkey": True}
    session.execute(mine.values(kept).execution_options(synchronize_session=False))


def note_confirmed(session: Session, digest: bytes, now: datetime) -> None:
    """Note that whoever uses a console session showed anew that it is they."""
    mine = sa.update(ConsoleSessionRow).where(col(ConsoleSessionRow.digest) == digest)
    session.execute(mine.values(confirmed_at=now).execution_options(synchronize_session=False))


def by_login(session: Session, directory_id: UUID, login: str) -> PersonRow | None:
    return session.exec(
        select(PersonRow).where(PersonRow.directory_id == directory_id, PersonRow.login == login)
    ).first()


def signing_in(session: Session, login: str, slug: str) -> list[tuple[PersonRow, DirectoryRow]]:
    """Return who may be meant by a login: of the directory that was named, else of those with the login's domain."""
    rows = select(PersonRow, DirectoryRow).join(DirectoryRow, col(DirectoryRow.id) == PersonRow.directory_id)
    where = DirectoryRow.slug == slug if slug else DirectoryRow.domain == login.rpartition("@")[2]
    found = session.exec(
        rows.where(PersonRow.login == login, where).order_by(DirectoryRow.slug).limit(MOST_DIRECTORIES)
    )
    return list(found.all())


def people_of(session: Session, directory_id: UUID) -> list[PersonRow]:
    return list(session.exec(select(PersonRow).where(PersonRow.directory_id == directory_id).order_by(PersonRow.name)))


def page(
    session: Session,
    directory_id: UUID,
    *,
    query: str,
    active: bool | None,
    after: tuple[str, str] | None,
    limit: int,
) -> tuple[list[PersonRow], int]:
    """Return a page of the people of a directory, by name and id, and how many are found in all.

    Args:
        query: in name or login. active: only those who may act, or only those who may not.
        after: name and id of the last one of the page before.
    """
    wanted = select(PersonRow).where(PersonRow.directory_id == directory_id)
    if query:
        wanted = wanted.where(has(PersonRow.name, query) | has(PersonRow.login, query))
    if active is not None:
        wanted = wanted.where(col(PersonRow.active).is_(active))
    total = pages.count_of(session, wanted)
    if after is not None:
        start = sa.tuple_(sa.literal(after[0]), sa.literal(UUID(after[1])))
        wanted = wanted.where(sa.tuple_(col(PersonRow.name), col(PersonRow.id)) > start)
    return list(session.exec(wanted.order_by(col(PersonRow.name), col(PersonRow.id)).limit(limit))), total


def population_of(directory_id: UUID) -> Reading[tuple[str, int]]:
    """The domain of a directory, and how many people may act there."""
    return Reading(_population(), {"directory": directory_id}, _only)


def _only(rows: Rows) -> tuple[str, int]:
    ((domain, population),) = rows
    return domain, population


@cache
def _population() -> sa.Select[Any]:
    here = col(PersonRow.directory_id) == col(DirectoryRow.id)
    counted = sa.select(sa.func.count()).where(here, col(PersonRow.active)).scalar_subquery()
    return sa.select(col(DirectoryRow.domain), counted).where(col(DirectoryRow.id) == parameter("directory", sa.Uuid))


def people_by_id(session: Session, person_ids: Iterable[UUID]) -> list[PersonRow]:
    """Return these people, by name."""
    wanted = list(person_ids)
    if not wanted:
        return []
    return list(session.scalars(_by_id(), {"people": wanted}))


@cache
def _by_id() -> sa.Select[PersonRow]:
    return sa.select(PersonRow).where(one_of(PersonRow.id, "people", sa.Uuid)).order_by(col(PersonRow.name))


def set_by(session: Session, directory_id: UUID, ids: Iterable[str], limit: int) -> list[UUID]:
    """Return the people of a directory whose password one of these chose, the newest first."""
    wanted = select(PersonRow.id).where(
        PersonRow.directory_id == directory_id, among(PersonRow.password_set_by, ids), col(PersonRow.active)
    )
    return list(session.exec(wanted.order_by(col(PersonRow.created_at).desc()).limit(limit)))


def known_ids(session: Session, directory_id: UUID, texts: Iterable[str]) -> dict[str, UUID]:
    """Return those of the texts that are ids of people of a directory."""
    wanted: dict[UUID, str] = {}
    for text in texts:
        try:
            wanted[UUID(text)] = text
        except ValueError:
            continue
    if not wanted:
        return {}
    rows = session.exec(
        select(PersonRow.id).where(among_ids(PersonRow.id, wanted), PersonRow.directory_id == directory_id)
    )
    return {wanted[row]: row for row in rows}


def names_of(session: Session, person_ids: Iterable[UUID | None]) -> dict[UUID | None, str]:
    """Return the names of these people by id; None, which stands for nobody in particular, has an empty name."""
    wanted = {person_id for person_id in person_ids if person_id is not None}
    names: dict[UUID | None, str] = {None: ""}
    if wanted:
        names.update(session.exec(select(PersonRow.id, PersonRow.name).where(among_ids(PersonRow.id, wanted))).all())
    return names


def by_reference(session: Session, directory_id: UUID, reference: str) -> PersonRow | None:
    """Return a person by id or login."""
    wanted = select(PersonRow).where(PersonRow.directory_id == directory_id)
    try:
        wanted = wanted.where(PersonRow.id == UUID(reference))
    except ValueError:
        wanted = wanted.where(PersonRow.login == reference.strip().lower())
    return session.exec(wanted).first()
