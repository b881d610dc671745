"""Resources, their catalogues (operations and permissions) and the collections of their objects."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime, timedelta
from functools import cache
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.permissions import AccessKind, Catalogue, ConsentBy, DataClass, Effect, Operation, Permission
from jamb.core.reach import NO_COLLECTIONS, Collection, CollectionTree
from jamb.store.base import pages
from jamb.store.base.columns import among, has, moment, parameter, words


class ResourceRow(SQLModel, table=True):
    """A protected API. `revision` rises with every change of its catalogue; prepared catalogues are keyed by it."""

    __tablename__ = "resource"
    __table_args__ = (
        UniqueConstraint("directory_id", "name", name="resource_name_taken"),
        UniqueConstraint("directory_id", "identifier", name="resource_identifier_taken"),
    )

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    name: str = Field(sa_type=Text)
    title: str = Field(sa_type=Text)
    identifier: str = Field(sa_type=Text)
    revision: int = 1
    # The client whose guard reports what was used here; nobody else's reports are believed.
    guard_client_id: str | None = Field(default=None, foreign_key="client.id", sa_type=Text)
    # What one object is called; empty where reach does not apply.
    object_name: str = Field(default="", sa_type=Text)
    # What the resource wants to know of whoever asks for it, and the terms to accept.
    questions: list[str] = words()
    terms: str = Field(default="", sa_type=Text)
    # Where it answers, for probes; empty where nobody said.
    address: str = Field(default="", sa_type=Text)
    # Rises with every change of its collections, as `revision` does with the catalogue.
    collections_revision: int = 1
    # Between these its guard could not count all calls; the end is a full hour, so that it is not written each second.
    uncounted_since: datetime | None = moment(nullable=True)
    uncounted_until: datetime | None = moment(nullable=True)


class OperationRow(SQLModel, table=True):
    __tablename__ = "operation"

    resource_id: UUID = Field(sa_column=Column(ForeignKey("resource.id"), primary_key=True))
    name: str = Field(primary_key=True, sa_type=Text)
    title: str = Field(sa_type=Text)
    method: str = Field(sa_type=Text)
    path: str = Field(sa_type=Text)
    effect: str = Field(sa_type=Text)
    data_class: str = Field(sa_type=Text)


class PermissionRow(SQLModel, table=True):
    __tablename__ = "permission"

    resource_id: UUID = Field(sa_column=Column(ForeignKey("resource.id"), primary_key=True))
    name: str = Field(primary_key=True, sa_type=Text)
    title: str = Field(sa_type=Text)
    kinds: list[str] = words()
    unlocks: list[str] = words()
    implies: list[str] = words()
    consent_by: str = Field(default=ConsentBy.ADMINISTRATOR.value, sa_type=Text)
    text: str = Field(default="", sa_type=Text)
    person_text: str = Field(default="", sa_type=Text)


class CollectionRow(SQLModel, table=True):
    """A named set of the resource's objects; its path places it in the tree."""

    __tablename__ = "collection"

    resource_id: UUID = Field(sa_column=Column(ForeignKey("resource.id"), primary_key=True))
    path: str = Field(primary_key=True, sa_type=Text)
    title: str = Field(sa_type=Text)
    objects: list[str] = words()
    rule: str = Field(default="", sa_type=Text)


_prepared: dict[tuple[UUID, int], Catalogue] = {}
_grown: dict[tuple[UUID, int], CollectionTree] = {}
_MOST_PREPARED = 512


def add_catalogue(session: Session, resource_id: UUID, catalogue: Catalogue) -> None:
    for operation in catalogue.operations.values():
        session.add(
            OperationRow(
                resource_id=resource_id,
                name=operation.name,
                title=operation.title,
                method=operation.method,
                path=operation.path,
                effect=operation.effect.value,
                data_class=operation.data_class.value,
            )
        )
    for permission in catalogue.permissions.values():
        session.add(
            PermissionRow(
                resource_id=resource_id,
                name=permission.name,
                title=permission.title,
                kinds=sorted(permission.kinds),
                unlocks=sorted(permission.unlocks),
                implies=sorted(permission.implies),
                consent_by=permission.consent_by.value,
                text=permission.text,
                person_text=permission.person_text,
            )
        )


def replace_catalogue(session: Session, row: ResourceRow, catalogue: Catalogue) -> None:
    """Put another catalogue in place of the one a resource has; its revision rises."""
    session.execute(sa.delete(OperationRow).where(col(OperationRow.resource_id) == row.id))
    session.execute(sa.delete(PermissionRow).where(col(PermissionRow.resource_id) == row.id))
    row.title, row.identifier, row.object_name = catalogue.title, catalogue.identifier, catalogue.object_name
    row.revision += 1
    session.add(row)
    session.flush()
    add_catalogue(session, row.id, catalogue)


def collections_of(session: Session, resource_id: UUID) -> CollectionTree:
    rows = session.exec(select(CollectionRow).where(CollectionRow.resource_id == resource_id))
    found = [Collection(row.path, row.title, frozenset(row.objects), row.rule) for row in rows]
    return CollectionTree.of(found) if found else NO_COLLECTIONS


def trees(session: Session, rows: Iterable[ResourceRow]) -> dict[UUID, CollectionTree]:
    """Return the collections of resources, reading only those that changed since this process read them."""
    wanted = list(rows)
    missing = {row.id: row for row in wanted if (row.id, row.collections_revision) not in _grown}
    if missing:
        if len(_grown) + len(missing) > _MOST_PREPARED:
            _grown.clear()
        found: dict[UUID, list[Collection]] = {key: [] for key in missing}
        for one in session.exec(select(CollectionRow).where(col(CollectionRow.resource_id).in_(missing))):
            found[one.resource_id].append(Collection(one.path, one.title, frozenset(one.objects), one.rule))
        for key, row in missing.items():
            _grown[key, row.collections_revision] = CollectionTree.of(found[key]) if found[key] else NO_COLLECTIONS
    return {row.id: _grown.get((row.id, row.collections_revision)) or trees(session, [row])[row.id] for row in wanted}


def grown(resource_id: UUID, collections_revision: int) -> CollectionTree | None:
    """Return the collections of a resource at a revision, if this process has read them."""
    return _grown.get((resource_id, collections_revision))


def replace_collections(session: Session, resource_id: UUID, tree: CollectionTree) -> None:
    session.execute(sa.delete(CollectionRow).where(col(CollectionRow.resource_id) == resource_id))
    session.execute(
        sa.update(ResourceRow)
        .where(col(ResourceRow.id) == resource_id)
        .values(collections_revision=col(ResourceRow.collections_revision) + 1)
    )
    for collection in tree.collections.values():
        session.add(
            CollectionRow(
                resource_id=resource_id,
                path=collection.path,
                title=collection.title,
                objects=sorted(collection.objects),
                rule=collection.rule,
            )
        )


def resources_of(session: Session, directory_id: UUID) -> list[ResourceRow]:
    return list(session.scalars(_of_directory(), {"directory": directory_id}))


def resources_page(
    session: Session, directory_id: UUID, query: str, after: str | None, limit: int
) -> tuple[Sequence[ResourceRow], int]:
    """Return a page of the resources of a directory, by name, and how many are found in all.

    Args:
        query: in name, title or identifier.
    """
    wanted = select(ResourceRow).where(ResourceRow.directory_id == directory_id)
    if query:
        wanted = wanted.where(
            has(ResourceRow.name, query) | has(ResourceRow.title, query) | has(ResourceRow.identifier, query)
        )
    return pages.by_name(session, wanted, ResourceRow.name, after, limit)


@cache
def _of_directory() -> sa.Select[ResourceRow]:
    here = col(ResourceRow.directory_id) == parameter("directory", sa.Uuid)
    return sa.select(ResourceRow).where(here).order_by(col(ResourceRow.name))


def by_identifier(session: Session, directory_id: UUID, identifier: str) -> ResourceRow | None:
    wanted = select(ResourceRow).where(ResourceRow.directory_id == directory_id, ResourceRow.identifier == identifier)
    return session.exec(wanted).first()


def by_name(session: Session, directory_id: UUID, name: str, *, lock: bool = False) -> ResourceRow | None:
    """Find by short name or by identifier."""
    return session.scalars(_named(lock=lock), {"directory": directory_id, "name": name}).first()


@cache
def _named(*, lock: bool) -> sa.Select[ResourceRow]:
    name = parameter("name", Text)
    wanted = sa.select(ResourceRow).where(
        col(ResourceRow.directory_id) == parameter("directory", sa.Uuid),
        (col(ResourceRow.name) == name) | (col(ResourceRow.identifier) == name),
    )
    return wanted.with_for_update() if lock else wanted


def collection_counts(session: Session, directory_id: UUID) -> dict[UUID, int]:
    """Return how many collections each resource of a directory has."""
    rows = session.exec(
        select(CollectionRow.resource_id, sa.func.count())
        .join(ResourceRow, col(ResourceRow.id) == CollectionRow.resource_id)
        .where(ResourceRow.directory_id == directory_id)
        .group_by(col(CollectionRow.resource_id))
    )
    return dict(rows.all())


def catalogues(session: Session, rows: Iterable[ResourceRow]) -> dict[UUID, Catalogue]:
    """Return prepared catalogues by resource id, reading only those whose revision is not prepared yet.

    The cache is right across processes: its key holds the revision that this transaction read.
    """
    wanted = list(rows)
    missing = {row.id: row for row in wanted if (row.id, row.revision) not in _prepared}
    if missing:
        if len(_prepared) + len(missing) > _MOST_PREPARED:
            _prepared.clear()
        operations: dict[UUID, list[Operation]] = {key: [] for key in missing}
        permissions: dict[UUID, list[Permission]] = {key: [] for key in missing}
        for op in session.exec(select(OperationRow).where(col(OperationRow.resource_id).in_(missing))):
            operations[op.resource_id].append(
                Operation(op.name, op.title, op.method, op.path, Effect(op.effect), DataClass(op.data_class))
            )
        for row in session.exec(select(PermissionRow).where(col(PermissionRow.resource_id).in_(missing))):
            kinds = frozenset(AccessKind(kind) for kind in row.kinds)
            permissions[row.resource_id].append(
                Permission(
                    row.name,
                    row.title,
                    kinds,
                    frozenset(row.unlocks),
                    frozenset(row.implies),
                    ConsentBy(row.consent_by),
                    row.text,
                    row.person_text,
                )
            )
        for key, resource in missing.items():
            _prepared[key, resource.revision] = Catalogue.of(
                resource.name,
                resource.title,
                resource.identifier,
                operations[key],
                permissions[key],
                resource.object_name,
            )
    return {row.id: _prepared.get((row.id, row.revision)) or catalogues(session, [row])[row.id] for row in wanted}


def catalogue_at(session: Session, resource_id: UUID, revision: int) -> Catalogue:
    """Return the catalogue of a resource whose revision was read in this transaction."""
    found = _prepared.get((resource_id, revision))
    return found or catalogues(session, [session.get_one(ResourceRow, resource_id)])[resource_id]


def prepared(resource_id: UUID, revision: int) -> Catalogue | None:
    """Return the catalogue if it is prepared in this process."""
    return _prepared.get((resource_id, revision))


def guarding(session: Session, client_ids: Iterable[str]) -> set[str]:
    """Return those of these clients that guard a resource."""
    return set(
        session.scalars(select(ResourceRow.guard_client_id).where(among(ResourceRow.guard_client_id, client_ids)))
    )


def guarded_by(session: Session, client_id: str) -> list[str]:
    """Return the names of the resources that a client guards."""
    return list(session.exec(select(ResourceRow.name).where(ResourceRow.guard_client_id == client_id)))


def note_uncounted(session: Session, resource_id: UUID, since: datetime, until: datetime) -> None:
    """Note that a guard could not count all calls in this time. A change of the row lets the audit look at its holders.

    The end is the full hour after it, and only a later one is written: a guard that goes on so tells it each second.
    """
    end = until.replace(minute=0, second=0, microsecond=0) + timedelta(hours=1)
    known = col(ResourceRow.uncounted_until)
    session.execute(
        sa.update(ResourceRow)
        .where(col(ResourceRow.id) == resource_id, sa.or_(known.is_(None), known < end))
        .values(
            uncounted_until=end,
            uncounted_since=sa.case((known >= since, col(ResourceRow.uncounted_since)), else_=since),
        )
    )
