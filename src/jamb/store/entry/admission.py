"""What is read to let a caller into Jamb's own API: one statement, compiled once from the tables and run on the driver.

What somebody holds comes as JSON, one list for all of it: roles as (name, permissions, reach, group), consents as
(permission, kind, since, until, reach, person), roles of the client itself as (name, permissions, since, until, reach),
with moments in seconds since 1970.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from typing import Any, NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlmodel import Session, col

from jamb.core.access import HeldGrant, RoleHolding
from jamb.core.permissions import AccessKind
from jamb.core.reach.details import reach_of
from jamb.store.base.columns import MOMENT
from jamb.store.base.driver import compiled, table_of
from jamb.store.clients.clients import ClientRow, GrantRow
from jamb.store.directory import roles
from jamb.store.directory.directories import DirectoryRow
from jamb.store.directory.people import ConsoleSessionRow, PersonRow
from jamb.store.directory.roles import AssignmentRow, GroupRow, RoleRow
from jamb.store.resources.resources import ResourceRow

_directory, _client, _resource = table_of(DirectoryRow), table_of(ClientRow), table_of(ResourceRow)
_person, _console, _consent = table_of(PersonRow), table_of(ConsoleSessionRow), table_of(GrantRow)
_NOW = sa.bindparam("now", type_=MOMENT)


class Known(NamedTuple):
    """A client at the resource that is Jamb's own API, and the person for whom it calls, if it calls for one."""

    directory_id: UUID
    client_id: str
    client_name: str
    client_state: str
    tokens_revoked_at: datetime | None
    resource_id: UUID
    revision: int
    person_id: UUID | None
    person_name: str | None
    person_active: bool | None
    held_roles: Sequence[Sequence[Any]] | None
    held_consents: Sequence[Sequence[Any]] | None
    held_by_client: Sequence[Sequence[Any]] | None

    def roles(self) -> tuple[RoleHolding, ...]:
        """Return the roles that the person holds now, themselves and by their groups."""
        return tuple(
            RoleHolding(name, frozenset(permissions), reach_of(reach), group or "")
            for name, permissions, reach, group in self.held_roles or ()
        )

    def consents(self) -> tuple[HeldGrant, ...]:
        """Return what the client was consented at the resource: for everybody, and for this person."""
        return tuple(
            HeldGrant(name, AccessKind(kind), _moment(since), _moment(until), reach_of(reach), person)
            for name, kind, since, until, reach, person in self.held_consents or ()
        )

    def by_role(self) -> tuple[HeldGrant, ...]:
        """Return what roles give the client itself at the resource, or gave, or will."""
        return tuple(
            roles.given(role, name, _moment(since), _moment(until), reach_of(reach))
            for role, permissions, since, until, reach in self.held_by_client or ()
            for name in permissions
        )


class ByToken(NamedTuple):
    """Whom an access token names, and where. `stands`: whether the sign-in that it names, if any, was not ended."""

    directory: DirectoryRow
    stands: bool
    known: Known


class SignedIn(NamedTuple):
    """A console session, whose it is, and where. `known`: the console at Jamb's own API, for this person."""

    digest: bytes
    created_at: datetime
    seen_at: datetime
    expires_at: datetime
    second_factor: bool
    passkey: bool
    provider: str
    confirmed_at: datetime | None
    login: str
    password_set_by: str
    directory: DirectoryRow
    known: Known


def _moment(seconds: float | None) -> Any:
    return None if seconds is None else datetime.fromtimestamp(seconds, UTC)


def _held_roles() -> sa.ScalarSelect[Any]:
    name, group = col(RoleRow.name), col(GroupRow.name)
    told = sa.func.jsonb_build_array(name, col(RoleRow.permissions), col(AssignmentRow.reach), group)
    ordered = sa.dialects.postgresql.aggregate_order_by(told, name, group)
    held = roles.held_at(sa.select(sa.func.jsonb_agg(ordered)), _person.c.id, _resource.c.id, _NOW, _person, _resource)
    return held.scalar_subquery()


def _held_consents() -> sa.ScalarSelect[Any]:
    held = sa.func.jsonb_build_array(
        _consent.c.permission,
        _consent.c.kind,
        sa.extract("epoch", _consent.c.granted_at),
        sa.extract("epoch", _consent.c.expires_at),
        _consent.c.reach,
        _consent.c.person_id,
    )
    return (
        sa.select(sa.func.jsonb_agg(held))
        .where(
            _consent.c.client_id == _client.c.id,
            _consent.c.resource_id == _resource.c.id,
            sa.or_(_consent.c.person_id.is_(None), _consent.c.person_id == _person.c.id),
        )
        .correlate(_client, _resource, _person)
        .scalar_subquery()
    )


def _held_by_client() -> sa.ScalarSelect[Any]:
    held, role = table_of(AssignmentRow), table_of(RoleRow)
    told = sa.func.jsonb_build_array(
        role.c.name,
        role.c.permissions,
        sa.extract("epoch", held.c.assigned_at),
        sa.extract("epoch", held.c.expires_at),
        held.c.reach,
    )
    return (
        sa.select(sa.func.jsonb_agg(sa.dialects.postgresql.aggregate_order_by(told, role.c.name)))
        .select_from(held.join(role, role.c.id == held.c.role_id))
        .where(held.c.client_id == _client.c.id, role.c.resource_id == _resource.c.id)
        .correlate(_client, _resource)
        .scalar_subquery()
    )


_KNOWN: tuple[Any, ...] = (
    _client.c.directory_id,
    _client.c.id,
    _client.c.name,
    _client.c.state,
    _client.c.tokens_revoked_at,
    _resource.c.id,
    _resource.c.revision,
    _person.c.id,
    _person.c.name,
    _person.c.active,
    _held_roles(),
    _held_consents(),
    _held_by_client(),
)
_OWN_API = sa.and_(
    _resource.c.directory_id == _client.c.directory_id, _resource.c.name == sa.bindparam("resource", type_=sa.Text)
)


# Parameters: directory, client, person, resource, now.
_BY_CALLER = compiled(
    sa.select(*_KNOWN)
    .select_from(
        _client.join(_resource, _OWN_API).outerjoin(
            _person,
            sa.and_(
                _person.c.id == sa.bindparam("person", type_=sa.Uuid), _person.c.directory_id == _client.c.directory_id
            ),
        )
    )
    .where(
        _client.c.id == sa.bindparam("client", type_=sa.Text),
        _client.c.directory_id == sa.bindparam("directory", type_=sa.Uuid),
    )
)
_PLACE = (
    _directory.c.id,
    _directory.c.slug,
    _directory.c.name,
    _directory.c.domain,
    _directory.c.policy,
    _directory.c.created_at,
    _directory.c.suspended_at,
)
_SIGN_IN = (
    _console.c.digest,
    _console.c.created_at,
    _console.c.seen_at,
    _console.c.expires_at,
    _console.c.second_factor,
    _console.c.passkey,
    _console.c.provider,
    _console.c.confirmed_at,
    _person.c.login,
    _person.c.password_set_by,
)
# Parameters: digest, console, resource, now. `console`: what the console's id in every directory begins with.
_BY_SESSION = compiled(
    sa.select(*_SIGN_IN, *_PLACE, *_KNOWN)
    .select_from(
        _console.join(_person, _person.c.id == _console.c.person_id)
        .join(_directory, _directory.c.id == _person.c.directory_id)
        .join(_client, _client.c.id == sa.bindparam("console", type_=sa.Text) + _directory.c.slug)
        .join(_resource, _OWN_API)
    )
    .where(_console.c.digest == sa.bindparam("digest", type_=sa.LargeBinary))
)
_SIGN_IN_ID = sa.bindparam("sign_in", type_=sa.Uuid)


def _not_ended(table: str) -> sa.ColumnElement[bool]:
    """Tell whether the sign-in is one of these, and was not ended."""
    there = sa.table(table, sa.column("id", sa.Uuid), sa.column("ended_at", MOMENT))
    return sa.exists().where(there.c.id == _SIGN_IN_ID, there.c.ended_at.is_(None))


_STANDS = sa.or_(_SIGN_IN_ID.is_(None), _not_ended("device_request"), _not_ended("person_authorization"))
# Parameters: slug, client, person, sign_in, resource, now.
_BY_TOKEN = compiled(
    sa.select(*_PLACE, _STANDS, *_KNOWN)
    .select_from(
        _directory.join(
            _client,
            sa.and_(_client.c.directory_id == _directory.c.id, _client.c.id == sa.bindparam("client", type_=sa.Text)),
        )
        .join(_resource, _OWN_API)
        .outerjoin(
            _person,
            sa.and_(_person.c.id == sa.bindparam("person", type_=sa.Uuid), _person.c.directory_id == _directory.c.id),
        )
    )
    .where(_directory.c.slug == sa.bindparam("slug", type_=sa.Text))
)


def by_caller(
    session: Session, directory_id: UUID, client_id: str, person_id: UUID | None, resource: str, now: datetime
) -> Known | None:
    """Return a client of a directory at one of its resources, and the person of that directory for whom it calls."""
    asked = {"directory": directory_id, "client": client_id, "person": person_id, "resource": resource, "now": now}
    row = _one(session, _BY_CALLER, asked)
    return Known(*row) if row is not None else None


def by_session(session: Session, digest: bytes, console: str, resource: str, now: datetime) -> SignedIn | None:
    """Return the console session of a cookie's digest, whether it still lasts or not."""
    row = _one(session, _BY_SESSION, {"digest": digest, "console": console, "resource": resource, "now": now})
    if row is None:
        return None
    before, after = len(_SIGN_IN), len(_SIGN_IN) + len(_PLACE)
    return SignedIn._make([*row[:before], _place(row[before:after]), Known(*row[after:])])


def by_token(
    session: Session,
    slug: str,
    client_id: str,
    person_id: UUID | None,
    sign_in_id: UUID | None,
    resource: str,
    now: datetime,
) -> ByToken | None:
    """Return whom a token of a directory names, at one of its resources; None: there is no such client.

    Nothing of it may be used before the token was verified.
    """
    names = {"slug": slug, "client": client_id, "person": person_id, "sign_in": sign_in_id}
    row = _one(session, _BY_TOKEN, {**names, "resource": resource, "now": now})
    if row is None:
        return None
    after = len(_PLACE)
    return ByToken(_place(row[:after]), row[after], Known(*row[after + 1 :]))


def _place(values: Sequence[Any]) -> DirectoryRow:
    return DirectoryRow(**dict(zip((column.name for column in _PLACE), values, strict=True)))


def note_seen(session: Session, digest: bytes, now: datetime) -> None:
    """Note that a console session is used."""
    mine = sa.update(_console).where(_console.c.digest == digest)
    session.connection().execute(mine.values(seen_at=now))


def _one(session: Session, statement: str, asked: Mapping[str, Any]) -> Sequence[Any] | None:
    found: Sequence[Any] | None = session.connection().exec_driver_sql(statement, dict(asked)).first()
    return found
