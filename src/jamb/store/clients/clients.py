"""Clients, their owners, asks and grants."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import ARRAY, Column, ForeignKey, Index, Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.access import HeldAsk, HeldGrant
from jamb.core.clients.clients import ClientState, OwnerLevel
from jamb.core.permissions import AccessKind
from jamb.core.reach import Reach
from jamb.core.reach.details import reach_of
from jamb.store.base.columns import among, among_ids, bound, moment, one_of, parameter, words
from jamb.store.base.reading import Reading, Rows
from jamb.store.directory.people import PersonRow


class ClientRow(SQLModel, table=True):
    """A registered client application. `builtin` ones are parts of Jamb itself and hidden from lists."""

    __tablename__ = "client"
    __table_args__ = (
        UniqueConstraint("directory_id", "folded_name", name="client_name_taken"),
        Index("client_by_registration", "directory_id", "registered_at", "id"),
        Index("client_by_look", "directory_id", "look"),
        Index("client_by_scheme", "schemes", postgresql_using="gin"),
    )

    id: str = Field(primary_key=True, sa_type=Text)
    directory_id: UUID = Field(foreign_key="directory.id")
    name: str = Field(sa_type=Text)
    # Ordered as it is compared, by the index that keeps names apart.
    folded_name: str = Field(sa_type=Text(collation="C"))
    # What names that look alike have in common; empty: it looks like none.
    look: str = Field(default="", sa_type=Text)
    purpose: str = Field(sa_type=Text)
    kind: str = Field(sa_type=Text)
    state: str = Field(sa_type=Text)
    builtin: bool = False
    registered_at: datetime = moment()
    registered_by: str = Field(sa_type=Text)
    # Tokens issued until then are refused, whatever they carry.
    tokens_revoked_at: datetime | None = moment(nullable=True)
    # When something was last taken away. A token made in that very second says the next one, so as to be told apart.
    narrowed_at: datetime | None = moment(nullable=True)
    redirect_uris: list[str] = words()
    # Those of its redirect URIs that are neither http nor https, in small letters; made by the database.
    schemes: list[str] = Field(
        default=None, sa_column=Column(ARRAY(Text), sa.Computed("private_schemes(redirect_uris)", persisted=True))
    )
    publisher: str = Field(default="", sa_type=Text)
    support_contact: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})
    trial_ends_at: datetime | None = moment(nullable=True)
    post_logout_redirect_uris: list[str] = words(server_default="{}")
    backchannel_logout_uri: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})
    # Names of groups whose people may sign in; none: everybody.
    sign_in_groups: list[str] = words(server_default="{}")
    # Pages for its users: itself, its privacy policy, its terms.
    client_uri: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})
    policy_uri: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})
    tos_uri: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})
    # Some of those of its kind; none: all of them. And since when it is these; none: since it was registered.
    grant_types: list[str] = words(server_default="{}")
    grant_types_since: datetime | None = moment(nullable=True)
    # SHA-256 of its picture, in hex (`store.clients.logos`); empty: it has none.
    logo: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})


class ClientOwnerRow(SQLModel, table=True):
    __tablename__ = "client_owner"

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), primary_key=True))
    person_id: UUID = Field(sa_column=Column(ForeignKey("person.id"), primary_key=True, index=True))
    level: str = Field(default=OwnerLevel.FULL.value, sa_type=Text)


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
    # The person or client; not a foreign key, because either may ask.
    asked_by_id: str = Field(default="", sa_type=Text)
    # The reach wished for.
    reach: dict[str, list[str]] | None = bound()

    def held(self) -> HeldAsk:
        return HeldAsk(self.permission, AccessKind(self.kind), self.asked_at)


class GrantRow(SQLModel, table=True):
    """A permission that the directory consented to."""

    __tablename__ = "consent"
    __table_args__ = (
        Index("consent_by_client", "client_id", "resource_id"),
        Index("consent_by_resource", "resource_id", "permission"),
        Index("consent_by_time", "granted_at", "id"),
    )

    id: UUID = Field(primary_key=True)
    client_id: str = Field(foreign_key="client.id", sa_type=Text)
    resource_id: UUID = Field(foreign_key="resource.id")
    permission: str = Field(sa_type=Text)
    kind: str = Field(sa_type=Text)
    granted_at: datetime = moment()
    granted_by: str = Field(sa_type=Text)
    expires_at: datetime | None = moment(nullable=True)
    reach: dict[str, list[str]] | None = bound()
    # Delegated only: the one person it covers; null covers everyone.
    person_id: UUID | None = Field(default=None, foreign_key="person.id", index=True)
    # The person consented for themselves.
    by_person: bool = False
    # Of catalogue and collections, as whoever consented saw them.
    revision: int | None = None
    collections_revision: int | None = None
    narrowed_at: datetime | None = moment(nullable=True)

    def stands(self, now: datetime) -> bool:
        """Tell whether it has not ended. Its start is not looked at: whoever waited for a lock has an older `now`."""
        return self.expires_at is None or now < self.expires_at

    def held(self) -> HeldGrant:
        return HeldGrant(
            self.permission,
            AccessKind(self.kind),
            self.granted_at,
            self.expires_at,
            reach_of(self.reach),
            str(self.person_id) if self.person_id is not None else None,
        )


def by_id(session: Session, directory_id: UUID, client_id: str, *, lock: bool = False) -> ClientRow | None:
    asked = {"client": client_id, "directory": directory_id}
    return session.scalars(_one(lock=lock), asked).first()


@cache
def _one(*, lock: bool) -> sa.Select[ClientRow]:
    wanted = sa.select(ClientRow).where(
        col(ClientRow.id) == parameter("client", Text), col(ClientRow.directory_id) == parameter("directory", sa.Uuid)
    )
    return wanted.with_for_update() if lock else wanted


def locked(session: Session, directory_id: UUID, client_ids: Iterable[str]) -> dict[str, ClientRow]:
    """Return those of these clients that are in a directory, locked: always in the order of their ids."""
    here = among(ClientRow.id, client_ids), col(ClientRow.directory_id) == directory_id
    rows = session.scalars(sa.select(ClientRow).where(*here).order_by(col(ClientRow.id)).with_for_update())
    return {row.id: row for row in rows}


def names_of(session: Session, client_ids: Iterable[str]) -> dict[str, str]:
    rows = session.execute(sa.select(col(ClientRow.id), col(ClientRow.name)).where(among(ClientRow.id, client_ids)))
    return {row[0]: row[1] for row in rows}


def by_name(session: Session, directory_id: UUID, folded_name: str) -> ClientRow | None:
    """Return the client of this name, as `core.clients.folded` makes it, that is not part of Jamb itself."""
    statement = select(ClientRow).where(ClientRow.folded_name == folded_name, ClientRow.directory_id == directory_id)
    return session.exec(statement.where(~col(ClientRow.builtin))).first()


def by_ids(session: Session, client_ids: Iterable[str]) -> dict[str, ClientRow]:
    wanted = list(client_ids)
    return {row.id: row for row in session.scalars(_these(), {"clients": wanted})} if wanted else {}


@cache
def _these() -> sa.Select[ClientRow]:
    return sa.select(ClientRow).where(one_of(ClientRow.id, "clients"))


def grants_by_id(session: Session, grant_ids: Iterable[UUID]) -> list[GrantRow]:
    return list(session.scalars(_grants_by_id(), {"grants": list(grant_ids)}))


@cache
def _grants_by_id() -> sa.Select[GrantRow]:
    return sa.select(GrantRow).where(one_of(GrantRow.id, "grants", sa.Uuid))


def asks_by_id(session: Session, ask_ids: Iterable[UUID]) -> dict[UUID, AskRow]:
    wanted = list(ask_ids)
    return {row.id: row for row in session.scalars(_asks_by_id(), {"asks": wanted})} if wanted else {}


@cache
def _asks_by_id() -> sa.Select[AskRow]:
    return sa.select(AskRow).where(one_of(AskRow.id, "asks", sa.Uuid))


def known(session: Session, directory_id: UUID, client_ids: Iterable[str]) -> set[str]:
    """Return those of the ids that are clients of the directory."""
    wanted = select(ClientRow.id).where(ClientRow.directory_id == directory_id, among(ClientRow.id, client_ids))
    return set(session.exec(wanted))


def asks_of(session: Session, client_ids: Iterable[str]) -> list[AskRow]:
    return list(session.scalars(_asks(), {"clients": list(client_ids)}))


@cache
def _asks() -> sa.Select[AskRow]:
    return sa.select(AskRow).where(one_of(AskRow.client_id, "clients"))


def grants_of(session: Session, client_ids: Iterable[str]) -> list[GrantRow]:
    return list(session.scalars(_grants(), {"clients": list(client_ids)}))


@cache
def _grants() -> sa.Select[GrantRow]:
    return sa.select(GrantRow).where(one_of(GrantRow.client_id, "clients"))


def held_asks(session: Session, client_ids: Iterable[str]) -> dict[str, list[tuple[UUID, HeldAsk]]]:
    """Return what clients ask, as (resource, ask) by client, without table objects: many at once."""
    found: dict[str, list[tuple[UUID, HeldAsk]]] = {}
    rows = session.execute(_held_asks(), {"clients": list(client_ids)})
    for client_id, resource_id, permission, kind, asked_at in rows:
        found.setdefault(client_id, []).append((resource_id, HeldAsk(permission, _KINDS[kind], asked_at)))
    return found


@cache
def _held_asks() -> sa.Select[str, UUID, str, str, datetime]:
    return sa.select(
        col(AskRow.client_id), col(AskRow.resource_id), col(AskRow.permission), col(AskRow.kind), col(AskRow.asked_at)
    ).where(one_of(AskRow.client_id, "clients"))


def held_grants(session: Session, client_ids: Iterable[str]) -> dict[str, list[tuple[UUID, HeldGrant]]]:
    """Return what clients were consented, as (resource, grant) by client, without table objects: many at once."""
    found: dict[str, list[tuple[UUID, HeldGrant]]] = {}
    rows = session.execute(_held_grants(), {"clients": list(client_ids)})
    for client_id, resource_id, permission, kind, granted_at, expires_at, reach, person_id in rows:
        held = HeldGrant(
            permission,
            _KINDS[kind],
            granted_at,
            expires_at,
            reach_of(reach),
            str(person_id) if person_id is not None else None,
        )
        found.setdefault(client_id, []).append((resource_id, held))
    return found


@cache
def _held_grants() -> sa.Select[Any]:
    columns: tuple[Any, ...] = (
        col(GrantRow.client_id),
        col(GrantRow.resource_id),
        col(GrantRow.permission),
        col(GrantRow.kind),
        col(GrantRow.granted_at),
        col(GrantRow.expires_at),
        col(GrantRow.reach),
        col(GrantRow.person_id),
    )
    return sa.select(*columns).where(one_of(GrantRow.client_id, "clients"))


_KINDS = {kind.value: kind for kind in AccessKind}


def grants_by_client(session: Session, client_ids: Iterable[str]) -> dict[str, list[GrantRow]]:
    found: dict[str, list[GrantRow]] = {}
    for row in grants_of(session, client_ids):
        found.setdefault(row.client_id, []).append(row)
    return found


def holding_at(session: Session, resource_id: UUID) -> list[ClientRow]:
    """Return the clients that hold or held something at a resource, by consent or by a role, by name."""
    assignment, role = SQLModel.metadata.tables["role_assignment"], SQLModel.metadata.tables["role"]
    by_role = sa.select(assignment.c.client_id).join(role, role.c.id == assignment.c.role_id)
    consented = sa.select(col(GrantRow.client_id)).where(col(GrantRow.resource_id) == resource_id)
    wanted = consented.union(by_role.where(role.c.resource_id == resource_id, assignment.c.client_id.is_not(None)))
    statement = select(ClientRow).where(col(ClientRow.id).in_(wanted), ~col(ClientRow.builtin))
    return list(session.exec(statement.order_by(ClientRow.name)))


# How many clients whose names look alike a finding names.
MOST_ALIKE = 3


def alike(directory_id: UUID, client_ids: Iterable[str]) -> Reading[dict[str, tuple[str, ...]]]:
    """The names of clients that were registered before each of these and whose names look like its own.

    Of many the first, and one more that is not named: "…".
    """
    return Reading(_alike(), {"clients": list(client_ids), "directory": directory_id}, first_named)


def first_named(rows: Rows) -> dict[str, tuple[str, ...]]:
    """Return the names beside each client id, in their order: of many the first, and one more that is not named: "…".

    Args:
        rows: client id and name, at least one more of each than are named.
    """
    found: dict[str, tuple[str, ...]] = {}
    for client_id, name in rows:
        held = found.get(client_id, ())
        if len(held) <= MOST_ALIKE:
            found[client_id] = (*held, name if len(held) < MOST_ALIKE else "…")
    return found


@cache
def _alike() -> sa.Select[Any]:
    one, other = (ClientRow.__table__.alias() for _ in range(2))  # type: ignore[attr-defined]
    here = parameter("directory", sa.Uuid)
    before = sa.tuple_(other.c.registered_at, other.c.id) < sa.tuple_(one.c.registered_at, one.c.id)
    first = (
        sa.select(other.c.name, other.c.registered_at, other.c.id)
        .where(
            other.c.directory_id == here,
            other.c.look == one.c.look,
            other.c.state != "removed",
            ~other.c.builtin,
            before,
        )
        .order_by(other.c.registered_at, other.c.id)
        .limit(MOST_ALIKE + 1)
        .lateral()
    )
    return (
        sa.select(one.c.id, first.c.name)
        .join(first, sa.true())
        .where(one.c.directory_id == here, one_of(one.c.id, "clients"), one.c.look != "", one.c.state != "removed")
        .order_by(one.c.id, first.c.registered_at, first.c.id)
    )


def still_there(session: Session, client_ids: Iterable[str]) -> set[str]:
    """Return those of the ids that are clients which were not removed."""
    wanted = select(ClientRow.id).where(among(ClientRow.id, client_ids), ClientRow.state != "removed")
    return set(session.exec(wanted))


def standing_on(
    session: Session, resource_id: UUID, permissions: Iterable[str], now: datetime
) -> list[tuple[str, str]]:
    """Return (permission, client name) for each client that holds or asks one of these permissions."""
    names = list(permissions)
    asked = sa.select(col(AskRow.permission), col(AskRow.client_id)).where(
        col(AskRow.resource_id) == resource_id, among(AskRow.permission, names)
    )
    granted = sa.select(col(GrantRow.permission), col(GrantRow.client_id)).where(
        col(GrantRow.resource_id) == resource_id, among(GrantRow.permission, names), stands(now)
    )
    both = asked.union(granted).subquery()
    rows = session.execute(
        sa.select(both.c.permission, col(ClientRow.name))
        .join(ClientRow, col(ClientRow.id) == both.c.client_id)
        .order_by(both.c.permission, col(ClientRow.name))
    )
    return [(permission, name) for permission, name in rows]


def held_permissions(session: Session, resource_id: UUID, now: datetime) -> set[str]:
    """Return the permissions of a resource that somebody is consented to, now or later."""
    rows = session.execute(
        sa.select(col(GrantRow.permission)).where(col(GrantRow.resource_id) == resource_id, stands(now)).distinct()
    )
    return {name for (name,) in rows}


def bounded_at(session: Session, resource_id: UUID, now: datetime) -> list[tuple[str, Reach]]:
    """Return each bounded reach of grants and asks at a resource, with the name of its client."""
    found = []
    for row, condition in ((GrantRow, stands(now)), (AskRow, sa.true())):
        rows = session.execute(
            sa.select(col(row.reach), col(ClientRow.name))
            .join(ClientRow, col(ClientRow.id) == col(row.client_id))
            .where(col(row.resource_id) == resource_id, col(row.reach).is_not(None), condition)
        )
        found += [(name, reach_of(reach)) for reach, name in rows]
    return found


def bounded_consents(session: Session, resource_id: UUID, now: datetime) -> list[Reach]:
    """Return each bounded reach with which clients are consented to something at a resource."""
    rows = session.execute(
        sa.select(col(GrantRow.reach)).where(
            col(GrantRow.resource_id) == resource_id, col(GrantRow.reach).is_not(None), stands(now)
        )
    )
    return [reach_of(reach) for (reach,) in rows]


def others_holding(
    session: Session, client_id: str, asks: Iterable[AskRow], now: datetime
) -> dict[tuple[UUID, str, str], list[str]]:
    """Return the names of the other clients that hold what is asked, by (resource, permission, kind)."""
    wanted = {(row.resource_id, row.permission, row.kind) for row in asks}
    if not wanted:
        return {}
    rows = session.execute(
        sa.select(col(GrantRow.resource_id), col(GrantRow.permission), col(GrantRow.kind), col(ClientRow.name))
        .join(ClientRow, col(ClientRow.id) == col(GrantRow.client_id))
        .where(
            sa.tuple_(col(GrantRow.resource_id), col(GrantRow.permission), col(GrantRow.kind)).in_(list(wanted)),
            col(GrantRow.client_id) != client_id,
            ~col(ClientRow.builtin),
            col(GrantRow.granted_at) <= now,
            stands(now),
        )
        .distinct()
        .order_by(col(ClientRow.name))
    )
    found: dict[tuple[UUID, str, str], list[str]] = {}
    for resource_id, permission, kind, name in rows:
        found.setdefault((resource_id, permission, kind), []).append(name)
    return found


def stands(now: datetime | sa.BindParameter[datetime]) -> sa.ColumnElement[bool]:
    return col(GrantRow.expires_at).is_(None) | (col(GrantRow.expires_at) > now)


@dataclass(frozen=True, slots=True)
class Owned:
    """One owner of a client."""

    person_id: UUID
    name: str
    level: OwnerLevel
    live: bool = True


def to_look_at(session: Session, directory_id: UUID, client_ids: Sequence[str] | None) -> list[ClientRow]:
    """Return these clients of a directory, or (None) all that are not part of Jamb itself nor removed, by name."""
    if client_ids is None:
        here = select(ClientRow).where(
            ClientRow.directory_id == directory_id, ~col(ClientRow.builtin), ClientRow.state != "removed"
        )
        return list(session.exec(here.order_by(ClientRow.folded_name)))
    return list(session.scalars(_some(), {"directory": directory_id, "clients": list(client_ids)}))


@cache
def _some() -> sa.Select[ClientRow]:
    here = col(ClientRow.directory_id) == parameter("directory", sa.Uuid)
    return sa.select(ClientRow).where(here, one_of(ClientRow.id, "clients"))


def owners_of(session: Session, client_ids: Iterable[str]) -> dict[str, list[Owned]]:
    """Return the owners by client, by name."""
    return owners(client_ids).of(session)


def owners(client_ids: Iterable[str]) -> Reading[dict[str, list[Owned]]]:
    """The owners by client, by name."""
    return Reading(_owners(), {"clients": list(client_ids)}, _as_owners)


def _as_owners(rows: Rows) -> dict[str, list[Owned]]:
    found: dict[str, list[Owned]] = {}
    for client_id, person_id, name, level, live in rows:
        found.setdefault(client_id, []).append(Owned(person_id, name, OwnerLevel(level), live))
    return found


@cache
def _owners() -> sa.Select[str, UUID, str, str, bool]:
    return (
        sa.select(
            col(ClientOwnerRow.client_id),
            col(PersonRow.id),
            col(PersonRow.name),
            col(ClientOwnerRow.level),
            col(PersonRow.active),
        )
        .join(PersonRow, col(PersonRow.id) == col(ClientOwnerRow.person_id))
        .where(one_of(ClientOwnerRow.client_id, "clients"))
        .order_by(col(PersonRow.name))
    )


def owned_fully(session: Session, directory_id: UUID, person_ids: Iterable[UUID]) -> set[str]:
    """Return the clients of a directory that one of these people answers for: not removed, not parts of Jamb."""
    rows = session.execute(
        sa.select(col(ClientOwnerRow.client_id))
        .join(ClientRow, col(ClientRow.id) == col(ClientOwnerRow.client_id))
        .where(
            among_ids(ClientOwnerRow.person_id, person_ids),
            col(ClientOwnerRow.level) == OwnerLevel.FULL.value,
            col(ClientRow.directory_id) == directory_id,
            col(ClientRow.state) != "removed",
        )
    )
    return {key for (key,) in rows}


def owned_by(session: Session, person_id: UUID) -> dict[OwnerLevel, list[str]]:
    """Return the ids of the clients that a person owns, by level."""
    found: dict[OwnerLevel, list[str]] = {}
    for client_id, level in session.execute(_owned(), {"person": person_id}):
        found.setdefault(OwnerLevel(level), []).append(client_id)
    return found


@cache
def _owned() -> sa.Select[str, str]:
    owned = sa.select(col(ClientOwnerRow.client_id), col(ClientOwnerRow.level))
    return owned.where(col(ClientOwnerRow.person_id) == parameter("person", sa.Uuid))


def acts_for_people(session: Session, client_id: str, now: datetime) -> bool:
    """Tell whether a client may do anything for people: a consent for all of them, or for one, is in force."""
    row = select(GrantRow.id).where(
        GrantRow.client_id == client_id,
        GrantRow.kind == "delegated",
        GrantRow.granted_at <= now,
        col(GrantRow.expires_at).is_(None) | (col(GrantRow.expires_at) > now),
    )
    return session.exec(row.limit(1)).first() is not None


def ids_of_all(session: Session, directory_id: UUID, *, removed: bool) -> list[str]:
    """Return the ids of a directory's own clients in order; `removed`: of those that were removed, too."""
    wanted = sa.select(col(ClientRow.id)).where(col(ClientRow.directory_id) == directory_id, ~col(ClientRow.builtin))
    if not removed:
        wanted = wanted.where(col(ClientRow.state) != "removed")
    return sorted(session.execute(wanted).scalars())


def grants_at(session: Session, client_id: str, resource_id: UUID, permission: str, kind: str) -> list[GrantRow]:
    """Return every consent of a client to one permission, past ones too."""
    return list(
        session.exec(
            select(GrantRow).where(
                GrantRow.client_id == client_id,
                GrantRow.resource_id == resource_id,
                GrantRow.permission == permission,
                GrantRow.kind == kind,
            )
        )
    )


def restricted_to(session: Session, directory_id: UUID, group: str) -> list[str]:
    """Return the names of clients that only people of a group may sign in to."""
    found = select(ClientRow.name).where(
        ClientRow.directory_id == directory_id,
        ClientRow.state != ClientState.REMOVED,
        sa.literal(group) == sa.func.any(col(ClientRow.sign_in_groups)),
    )
    return list(session.exec(found.order_by(ClientRow.name)))
