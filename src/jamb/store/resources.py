"""Resources and their catalogues: operations and permissions."""

from __future__ import annotations

from collections.abc import Iterable
from uuid import UUID

from sqlalchemy import Column, ForeignKey, Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.store.columns import words


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


_prepared: dict[tuple[UUID, int], Catalogue] = {}
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
            )
        )


def resources_of(session: Session, directory_id: UUID) -> list[ResourceRow]:
    return list(
        session.exec(select(ResourceRow).where(ResourceRow.directory_id == directory_id).order_by(ResourceRow.name))
    )


def by_name(session: Session, directory_id: UUID, name: str) -> ResourceRow | None:
    """Find by short name or by identifier."""
    return session.exec(
        select(ResourceRow).where(
            ResourceRow.directory_id == directory_id,
            (col(ResourceRow.name) == name) | (col(ResourceRow.identifier) == name),
        )
    ).first()


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
                Permission(row.name, row.title, kinds, frozenset(row.unlocks), frozenset(row.implies))
            )
        for key, resource in missing.items():
            _prepared[key, resource.revision] = Catalogue.of(
                resource.name, resource.title, resource.identifier, operations[key], permissions[key]
            )
    return {row.id: _prepared.get((row.id, row.revision)) or catalogues(session, [row])[row.id] for row in wanted}


def prepared(resource_id: UUID, revision: int) -> Catalogue | None:
    """Return the catalogue if it is prepared in this process."""
    return _prepared.get((resource_id, revision))
