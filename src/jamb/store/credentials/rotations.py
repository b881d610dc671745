"""Rotations: which credential follows which, and how far they are."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from typing import Any, NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import ForeignKey, Index, Text
from sqlalchemy.orm import aliased
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.audit.picture import RotationPicture
from jamb.core.rotation import Rotation, RotationEnd, Seen
from jamb.store.base.columns import among, among_ids, moment, one_of, parameter
from jamb.store.base.driver import insert_many
from jamb.store.base.reading import Reading, Rows, number
from jamb.store.clients.clients import ClientRow
from jamb.store.credentials.credentials import CredentialRow, works
from jamb.store.resources.usage import AttemptRow

_OPEN = sa.text("ended IS NULL")


class RotationRow(SQLModel, table=True):
    """One rotation. A credential takes part in one open rotation at most, by the two partial indexes."""

    __tablename__ = "rotation"
    __table_args__ = (
        Index("rotation_of_credential", "old_id", unique=True, postgresql_where=_OPEN),
        Index("rotation_to_credential", "new_id", unique=True, postgresql_where=_OPEN),
        Index("rotation_open", "directory_id", "overlap_ends_at", postgresql_where=_OPEN),
        Index("rotation_ended", "directory_id", "ended_at"),
    )

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    client_id: str = Field(sa_column=sa.Column(Text, ForeignKey("client.id"), nullable=False, index=True))
    old_id: UUID = Field(foreign_key="credential.id")
    new_id: UUID = Field(foreign_key="credential.id")
    opened_at: datetime = moment()
    opened_by: str = Field(sa_type=Text)
    overlap_ends_at: datetime = moment()
    quiet_seconds: int
    ended: str | None = Field(default=None, sa_type=Text)
    ended_at: datetime | None = moment(nullable=True)
    ended_by: str = Field(default="", sa_type=Text)
    forced: bool = False


class NewRotation(NamedTuple):
    """What a rotation is when it is opened, by column."""

    id: UUID
    directory_id: UUID
    client_id: str
    old_id: UUID
    new_id: UUID
    opened_at: datetime
    opened_by: str
    overlap_ends_at: datetime
    quiet_seconds: int
    ended_by: str = ""
    forced: bool = False


def write(session: Session, rows: Iterable[NewRotation]) -> None:
    """Write rotations whose credentials are written."""
    insert_many(session, RotationRow, [row._asdict() for row in rows])


@dataclass(frozen=True, slots=True)
class LoadedRotation:
    row: RotationRow
    old: CredentialRow
    new: CredentialRow
    client_name: str

    def facts(self) -> Rotation:
        ended = RotationEnd(self.row.ended) if self.row.ended is not None else None
        quiet_for = timedelta(seconds=self.row.quiet_seconds)
        opened_at, overlap_ends_at = self.row.opened_at, self.row.overlap_ends_at
        return Rotation(opened_at, overlap_ends_at, quiet_for, _seen(self.old), _seen(self.new), ended)


@dataclass(frozen=True, slots=True)
class User:
    """Who used a credential: from which address, with which program, when last, how often."""

    address: str
    user_agent: str
    last_at: datetime
    times: int


def by_id(session: Session, directory_id: UUID, rotation_id: UUID, *, lock: bool = False) -> LoadedRotation | None:
    statement = _loaded().where(col(RotationRow.id) == rotation_id, col(RotationRow.directory_id) == directory_id)
    if lock:
        statement = statement.with_for_update(of=RotationRow)
    found = session.execute(statement).first()
    return LoadedRotation(*found) if found is not None else None


def by_ids(session: Session, rotation_ids: Iterable[UUID]) -> dict[UUID, LoadedRotation]:
    found = session.execute(_loaded().where(among_ids(RotationRow.id, rotation_ids)))
    return {one[0].id: LoadedRotation(*one) for one in found}


def open_of_credentials(session: Session, credential_ids: Iterable[UUID]) -> set[UUID]:
    """Return those of these credentials that take part in an open rotation."""
    wanted = set(credential_ids)
    part = among_ids(RotationRow.old_id, wanted) | among_ids(RotationRow.new_id, wanted)
    rows = session.execute(
        sa.select(col(RotationRow.old_id), col(RotationRow.new_id)).where(part, col(RotationRow.ended).is_(None))
    )
    return {key for row in rows for key in row} & wanted


def open_of_clients(client_ids: Iterable[str]) -> Reading[dict[str, list[RotationPicture]]]:
    """The open rotations by client."""
    return Reading(_open_of_clients(), {"clients": list(client_ids)}, _pictured)


def _pictured(rows: Rows) -> dict[str, list[RotationPicture]]:
    found: dict[str, list[RotationPicture]] = {}
    for client_id, rotation_id, old_hint, new_hint, ends_at, old_id, new_id in rows:
        picture = RotationPicture(str(rotation_id), old_hint, new_hint, ends_at, str(old_id), str(new_id))
        found.setdefault(client_id, []).append(picture)
    return found


@cache
def _open_of_clients() -> sa.Select[Any]:
    row = RotationRow
    old, new = aliased(CredentialRow), aliased(CredentialRow)
    columns: tuple[Any, ...] = (
        *(col(column) for column in (row.client_id, row.id)),
        *(col(column) for column in (old.hint, new.hint, row.overlap_ends_at, row.old_id, row.new_id)),
    )
    return (
        sa.select(*columns)
        .join_from(row, old, col(old.id) == col(row.old_id))
        .join(new, col(new.id) == col(row.new_id))
        .where(one_of(row.client_id, "clients"), col(row.ended).is_(None))
    )


def open_of_credential(session: Session, credential_id: UUID) -> RotationRow | None:
    """Return the open rotation in which a credential takes part, locked."""
    part = (col(RotationRow.old_id) == credential_id) | (col(RotationRow.new_id) == credential_id)
    statement = select(RotationRow).where(part, col(RotationRow.ended).is_(None))
    return session.exec(statement.with_for_update()).first()


Position = tuple[datetime, UUID]


def page(
    session: Session,
    directory_id: UUID,
    *,
    client_ids: Iterable[str] | None,
    ended_since: datetime | None,
    after: Position | None,
    limit: int,
) -> list[LoadedRotation]:
    """Return open rotations, the one whose overlap ends first before the others; or those ended since, latest first.

    `client_ids`: only of these clients; None: of all.
    """
    statement = _loaded().where(col(RotationRow.directory_id) == directory_id)
    if client_ids is not None:
        statement = statement.where(among(RotationRow.client_id, client_ids))
    identity = col(RotationRow.id)
    if ended_since is None:
        ends = col(RotationRow.overlap_ends_at)
        statement = statement.where(col(RotationRow.ended).is_(None)).order_by(ends, identity)
        further = sa.tuple_(ends, identity) > after if after is not None else sa.true()
    else:
        ended = col(RotationRow.ended_at)
        statement = statement.where(ended > ended_since).order_by(ended.desc(), identity.desc())
        further = sa.tuple_(ended, identity) < after if after is not None else sa.true()
    return [LoadedRotation(*found) for found in session.execute(statement.where(further).limit(limit))]


def open_where(
    session: Session, directory_id: UUID, wanted: sa.ColumnElement[bool], limit: int
) -> list[LoadedRotation]:
    """Return the open rotations that fulfil a condition, the one whose overlap ends first before the others."""
    rows = session.execute(
        _loaded()
        .where(col(RotationRow.directory_id) == directory_id, col(RotationRow.ended).is_(None), wanted)
        .order_by(col(RotationRow.overlap_ends_at), col(RotationRow.id))
        .limit(limit)
    )
    return [LoadedRotation(*row) for row in rows]


def used_late(until: datetime, since: datetime) -> sa.ColumnElement[bool]:
    """Return "the overlap ends until then, and the old credential was used since", for `open_where`."""
    return (col(RotationRow.overlap_ends_at) <= until) & (col(_old().last_used_at) > since)


def open_in(directory_id: UUID) -> Reading[int]:
    """How many rotations of a directory are open."""
    return Reading(_open_in(), {"directory": directory_id}, number)


@cache
def _open_in() -> sa.Select[int]:
    here = col(RotationRow.directory_id) == parameter("directory", sa.Uuid)
    return sa.select(sa.func.count()).where(here, col(RotationRow.ended).is_(None))


def users_of(session: Session, rotation_ids: Iterable[UUID], most: int) -> dict[UUID, list[User]]:
    """Return who got tokens with the old credential since each rotation was opened: the latest, at most so many."""
    last = sa.func.max(col(AttemptRow.at))
    counted = (
        sa.select(
            col(RotationRow.id).label("rotation_id"),
            col(AttemptRow.address).label("address"),
            col(AttemptRow.user_agent).label("user_agent"),
            last.label("last_at"),
            sa.func.count().label("times"),
            sa.func.row_number().over(partition_by=col(RotationRow.id), order_by=last.desc()).label("place"),
        )
        .join(CredentialRow, col(CredentialRow.id) == col(RotationRow.old_id))
        .join(
            AttemptRow,
            (col(AttemptRow.client_id) == col(RotationRow.client_id))
            & (col(AttemptRow.hint) == col(CredentialRow.hint))
            & (col(AttemptRow.outcome) == "issued")
            & (col(AttemptRow.at) > col(RotationRow.opened_at)),
        )
        .where(among_ids(RotationRow.id, rotation_ids))
        .group_by(col(RotationRow.id), col(AttemptRow.address), col(AttemptRow.user_agent))
        .subquery()
    )
    latest = sa.select(counted).where(counted.c.place <= most).order_by(counted.c.rotation_id, counted.c.place)
    found: dict[UUID, list[User]] = {}
    for row in session.execute(latest):
        found.setdefault(row.rotation_id, []).append(User(row.address, row.user_agent, row.last_at, row.times))
    return found


def users_of_credential(session: Session, client_id: str, hint: str, since: datetime, most: int) -> list[User]:
    """Return who got tokens with a credential since a moment: the latest, at most so many."""
    last = sa.func.max(col(AttemptRow.at))
    rows = session.execute(
        sa.select(col(AttemptRow.address), col(AttemptRow.user_agent), last, sa.func.count())
        .where(
            col(AttemptRow.client_id) == client_id, col(AttemptRow.hint) == hint, col(AttemptRow.outcome) == "issued"
        )
        .where(col(AttemptRow.at) > since)
        .group_by(col(AttemptRow.address), col(AttemptRow.user_agent))
        .order_by(last.desc())
        .limit(most)
    )
    return [User(*row) for row in rows]


def ending(
    session: Session,
    directory_id: UUID,
    *,
    client_ids: Iterable[str] | None,
    now: datetime,
    until: datetime,
    after: Position | None,
    limit: int,
) -> list[tuple[CredentialRow, str]]:
    """Return the credentials that work, end by a moment and are in no open rotation, the first to end first.

    Each with its client's name. `client_ids`: only of these clients; None: of all.
    """
    part = sa.exists().where(
        (col(RotationRow.old_id) == col(CredentialRow.id)) | (col(RotationRow.new_id) == col(CredentialRow.id)),
        col(RotationRow.ended).is_(None),
    )
    key = (col(CredentialRow.expires_at), col(CredentialRow.id))
    statement = (
        select(CredentialRow, ClientRow.name)
        .join(ClientRow, col(ClientRow.id) == CredentialRow.client_id)
        .where(
            CredentialRow.directory_id == directory_id,
            ClientRow.state == "live",
            works(now),
            col(CredentialRow.expires_at) <= until,
            ~part,
        )
    )
    if client_ids is not None:
        statement = statement.where(among(CredentialRow.client_id, client_ids))
    if after is not None:
        statement = statement.where(sa.tuple_(*key) > after)
    return list(session.exec(statement.order_by(*key).limit(limit)))


def working(session: Session, directory_id: UUID, now: datetime) -> list[tuple[str, datetime | None]]:
    """Return kind and end of every credential that works now or later and is not being replaced."""
    replaced = sa.exists().where(col(RotationRow.old_id) == col(CredentialRow.id), col(RotationRow.ended).is_(None))
    rows = session.execute(
        sa.select(col(CredentialRow.kind), col(CredentialRow.expires_at)).where(
            col(CredentialRow.directory_id) == directory_id,
            col(CredentialRow.withdrawn_at).is_(None),
            col(CredentialRow.expires_at).is_(None) | (col(CredentialRow.expires_at) > now),
            ~replaced,
        )
    )
    return [(kind, ends) for kind, ends in rows]


@cache
def _old() -> Any:
    return aliased(CredentialRow)


@cache
def _loaded() -> sa.Select[RotationRow, CredentialRow, CredentialRow, str]:
    # Once: to name a table anew costs more than to read from it.
    old, new = _old(), aliased(CredentialRow)
    return (
        sa.select(RotationRow, old, new, col(ClientRow.name))
        .join(old, col(old.id) == col(RotationRow.old_id))
        .join(new, col(new.id) == col(RotationRow.new_id))
        .join(ClientRow, col(ClientRow.id) == col(RotationRow.client_id))
    )


def _seen(row: CredentialRow) -> Seen:
    return Seen(row.first_used_at, row.last_used_at, row.expires_at)
