"""Look for a word among everything of a directory: a few of each kind, those that begin with it first."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any, NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Text
from sqlmodel import Session, col

from jamb.core.credentials.lookup import credential_meant
from jamb.core.lists import FoundKind
from jamb.store.base.columns import among, escaped_word
from jamb.store.clients.clients import ClientRow
from jamb.store.credentials.credentials import CredentialRow, is_meant
from jamb.store.directory.people import PersonRow
from jamb.store.directory.roles import GroupRow, RoleRow
from jamb.store.resources.resources import OperationRow, PermissionRow, ResourceRow


class FoundRow(NamedTuple):
    """`id`: of a client or person; else the name. `resource`: whose permission, operation or role it is."""

    kind: str
    id: str
    name: str
    more: str
    resource: str


def search(
    session: Session,
    directory_id: UUID,
    text: str,
    kinds: Collection[FoundKind],
    only: Iterable[str] | None,
    most: int,
) -> list[FoundRow]:
    """Return what has a word in its name, title, login, id, address or hint; at most so many of each kind.

    Args:
        only: no clients but these, for whoever sees no others.
    """
    word = escaped_word(text.strip())
    parts = [
        _part(kind, statement, fields, word, most)
        for kind, (statement, fields) in _sources(directory_id, text, only).items()
        if kind in kinds
    ]
    if not parts:
        return []
    return [FoundRow(*row) for row in session.execute(sa.union_all(*parts))]


def _part(kind: FoundKind, statement: Any, fields: Iterable[Any], word: str, most: int) -> Any:
    """Return the rows of one kind that match; where no fields are named, all of them do."""
    matching = [field.ilike(f"%{word}%") for field in fields]
    name = statement.selected_columns[1]
    wanted = statement.add_columns(sa.literal(kind.value).label("kind")).where(
        sa.or_(*matching) if matching else sa.true()
    )
    found = wanted.order_by(~name.ilike(f"{word}%"), name).limit(most).subquery()
    return sa.select(*(found.c[field] for field in FoundRow._fields))


def _sources(directory_id: UUID, text: str, only: Iterable[str] | None) -> dict[FoundKind, tuple[Any, list[Any]]]:
    """Return for each kind what is read of it, and the columns in which the word is looked for."""

    def columns(key: Any, name: Any, more: Any, resource: Any = "") -> list[Any]:
        none = sa.literal("", Text)
        return [
            sa.cast(key, Text).label("id"),
            name.label("name"),
            (more if not isinstance(more, str) else none).label("more"),
            (resource if not isinstance(resource, str) else none).label("resource"),
        ]

    client, person, group, role = ClientRow, PersonRow, GroupRow, RoleRow
    place, permission, operation = ResourceRow, PermissionRow, OperationRow
    here = sa.and_(col(client.directory_id) == directory_id, ~col(client.builtin), col(client.state) != "removed")
    if only is not None:
        here = sa.and_(here, among(client.id, only))
    of_place = col(place.directory_id) == directory_id
    meant = credential_meant(text)
    by_credential = is_meant(meant) if meant is not None else sa.false()
    return {
        FoundKind.CLIENT: (
            sa.select(*columns(client.id, col(client.name), col(client.purpose))).where(here),
            [col(client.name), col(client.purpose), col(client.id)],
        ),
        FoundKind.CREDENTIAL: (
            sa.select(*columns(client.id, col(client.name), col(CredentialRow.hint)))
            .join(CredentialRow, col(CredentialRow.client_id) == col(client.id))
            .where(here, by_credential),
            [],
        ),
        FoundKind.PERSON: (
            sa.select(*columns(person.id, col(person.name), col(person.login))).where(
                col(person.directory_id) == directory_id
            ),
            [col(person.name), col(person.login)],
        ),
        FoundKind.GROUP: (
            sa.select(*columns(group.name, col(group.name), col(group.title))).where(
                col(group.directory_id) == directory_id
            ),
            [col(group.name), col(group.title)],
        ),
        FoundKind.ROLE: (
            sa.select(*columns(role.name, col(role.name), col(role.title), col(place.name)))
            .join(place, col(place.id) == col(role.resource_id))
            .where(col(role.directory_id) == directory_id, col(role.removed_at).is_(None)),
            [col(role.name), col(role.title)],
        ),
        FoundKind.RESOURCE: (
            sa.select(*columns(place.name, col(place.title), col(place.identifier), col(place.name))).where(of_place),
            [col(place.name), col(place.title), col(place.identifier)],
        ),
        FoundKind.PERMISSION: (
            sa.select(*columns(permission.name, col(permission.name), col(permission.title), col(place.name)))
            .join(place, col(place.id) == col(permission.resource_id))
            .where(of_place),
            [col(permission.name), col(permission.title)],
        ),
        FoundKind.OPERATION: (
            sa.select(*columns(operation.name, col(operation.name), col(operation.title), col(place.name)))
            .join(place, col(place.id) == col(operation.resource_id))
            .where(of_place),
            [col(operation.name), col(operation.title), col(operation.path)],
        ),
    }
