"""What clients touch and for whom they act, as guards report it: evidence for smaller reach and narrower consent."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Text
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, SQLModel, col

from jamb.store.base.columns import MOMENT, among, moment, one_of, parameter
from jamb.store.base.reading import Reading, Rows
from jamb.store.directory.people import PersonRow


class ObjectUseRow(SQLModel, table=True):
    """An object that a client, as itself, touched by an operation. An empty name: one that lies in no collection."""

    __tablename__ = "object_use"

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), primary_key=True))
    resource_id: UUID = Field(sa_column=Column(ForeignKey("resource.id"), primary_key=True))
    operation: str = Field(primary_key=True, sa_type=Text)
    object: str = Field(primary_key=True, sa_type=Text)
    last_at: datetime = moment()


class PersonUseRow(SQLModel, table=True):
    """A person for whom a client did an operation. An empty one stands for any: earlier reports did not tell."""

    __tablename__ = "person_use"

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), primary_key=True))
    resource_id: UUID = Field(sa_column=Column(ForeignKey("resource.id"), primary_key=True))
    operation: str = Field(primary_key=True, sa_type=Text)
    person_id: UUID = Field(sa_column=Column(ForeignKey("person.id"), primary_key=True))
    last_at: datetime = moment()


@dataclass(frozen=True, slots=True)
class Touched:
    """What a client touched at a resource while that counts; `fades_at`: when the first of it stops to count."""

    objects: Mapping[str, frozenset[str]]
    fades_from: datetime


@dataclass(frozen=True, slots=True)
class ActedFor:
    """For whom a client acted while that counts, by operation, each id with a name."""

    people: Mapping[str, Mapping[str, str]]
    fades_from: datetime


def add_objects(session: Session, rows: Iterable[tuple[str, UUID, str, str, datetime]]) -> None:
    """Note (client, resource, operation, object, last) in an order that two processes share."""
    kept: dict[tuple[str, UUID, str, str], datetime] = {}
    for client_id, resource_id, operation, name, at in rows:
        key = (client_id, resource_id, operation, name)
        kept[key] = max(kept.get(key, at), at)
    _upsert(session, ObjectUseRow, ("client_id", "resource_id", "operation", "object"), kept)


def add_people(session: Session, rows: Iterable[tuple[str, UUID, str, UUID, datetime]]) -> None:
    """Note (client, resource, operation, person, last)."""
    kept: dict[tuple[str, UUID, str, UUID], datetime] = {}
    for client_id, resource_id, operation, person_id, at in rows:
        key = (client_id, resource_id, operation, person_id)
        kept[key] = max(kept.get(key, at), at)
    _upsert(session, PersonUseRow, ("client_id", "resource_id", "operation", "person_id"), kept)


def _upsert(session: Session, table: type[SQLModel], keys: tuple[str, ...], kept: Mapping[Any, datetime]) -> None:
    if not kept:
        return
    rows = [dict(zip(keys, key, strict=True)) | {"last_at": at} for key, at in kept.items()]
    rows.sort(key=lambda row: [str(row[key]) for key in keys])
    statement = insert(table)
    latest = sa.func.greatest(table.__table__.c.last_at, statement.excluded.last_at)  # type: ignore[attr-defined]
    session.execute(statement.on_conflict_do_update(index_elements=list(keys), set_={"last_at": latest}), rows)


def objects_of(client_ids: Iterable[str], since: datetime) -> Reading[dict[tuple[str, UUID], Touched]]:
    """What clients touched since a moment, by client and resource."""
    return Reading(_objects(), {"clients": list(client_ids), "used_since": since}, _touched)


def _touched(rows: Rows) -> dict[tuple[str, UUID], Touched]:
    found: dict[tuple[str, UUID], dict[str, set[str]]] = {}
    first: dict[tuple[str, UUID], datetime] = {}
    for client_id, resource_id, operation, name, at in rows:
        key = (client_id, resource_id)
        found.setdefault(key, {}).setdefault(operation, set()).add(name)
        first[key] = min(first.get(key, at), at)
    return {
        key: Touched({name: frozenset(names) for name, names in by_operation.items()}, first[key])
        for key, by_operation in found.items()
    }


@cache
def _objects() -> sa.Select[str, UUID, str, str, datetime]:
    return sa.select(
        col(ObjectUseRow.client_id),
        col(ObjectUseRow.resource_id),
        col(ObjectUseRow.operation),
        col(ObjectUseRow.object),
        col(ObjectUseRow.last_at),
    ).where(one_of(ObjectUseRow.client_id, "clients"), col(ObjectUseRow.last_at) > parameter("used_since", MOMENT))


def people_of(client_ids: Iterable[str], since: datetime) -> Reading[dict[tuple[str, UUID], ActedFor]]:
    """For whom clients acted since a moment, by client and resource."""
    return Reading(_people(), {"clients": list(client_ids), "used_since": since}, _acted_for)


def _acted_for(rows: Rows) -> dict[tuple[str, UUID], ActedFor]:
    found: dict[tuple[str, UUID], dict[str, dict[str, str]]] = {}
    first: dict[tuple[str, UUID], datetime] = {}
    for client_id, resource_id, operation, person_id, name, at in rows:
        key = (client_id, resource_id)
        found.setdefault(key, {}).setdefault(operation, {})[str(person_id)] = name
        first[key] = min(first.get(key, at), at)
    return {key: ActedFor(people, first[key]) for key, people in found.items()}


@cache
def _people() -> sa.Select[Any]:
    columns: tuple[Any, ...] = (
        col(PersonUseRow.client_id),
        col(PersonUseRow.resource_id),
        col(PersonUseRow.operation),
        col(PersonRow.id),
        col(PersonRow.name),
        col(PersonUseRow.last_at),
    )
    return (
        sa.select(*columns)
        .join(PersonRow, col(PersonRow.id) == col(PersonUseRow.person_id))
        .where(one_of(PersonUseRow.client_id, "clients"), col(PersonUseRow.last_at) > parameter("used_since", MOMENT))
        .order_by(col(PersonRow.name), col(PersonRow.id))
    )


def last_used_for(session: Session, person_id: UUID, client_ids: Iterable[str]) -> dict[tuple[str, UUID], datetime]:
    """Return when clients acted for a person last, by client and resource."""
    rows = session.execute(
        sa.select(col(PersonUseRow.client_id), col(PersonUseRow.resource_id), sa.func.max(col(PersonUseRow.last_at)))
        .where(among(PersonUseRow.client_id, client_ids), col(PersonUseRow.person_id) == person_id)
        .group_by(col(PersonUseRow.client_id), col(PersonUseRow.resource_id))
    )
    return {(client_id, resource_id): at for client_id, resource_id, at in rows}


def person_ids_of(
    session: Session, client_id: str, resource_id: UUID, operations: Iterable[str], since: datetime
) -> dict[UUID, str]:
    """Return the people for whom a client did one of these operations since a moment, with their names."""
    rows = session.execute(
        sa.select(col(PersonRow.id), col(PersonRow.name))
        .join(PersonUseRow, col(PersonUseRow.person_id) == col(PersonRow.id))
        .where(
            col(PersonUseRow.client_id) == client_id,
            col(PersonUseRow.resource_id) == resource_id,
            among(PersonUseRow.operation, [*operations, ""]),
            col(PersonUseRow.last_at) > since,
        )
    )
    return {row[0]: row[1] for row in rows}
