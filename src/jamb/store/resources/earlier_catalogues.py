"""What a resource's catalogue and collections were before, for as long as what was granted of late is weighed by it."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import Column, ForeignKey, Index, Text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core import own_api
from jamb.core.access.powers import Place
from jamb.core.permissions import AccessKind, Catalogue, ConsentBy, DataClass, Effect, Operation, Permission
from jamb.core.reach import Collection, CollectionTree
from jamb.store.base.columns import among_ids, document, moment
from jamb.store.resources import resources
from jamb.store.resources.resources import ResourceRow

CATALOGUE, COLLECTIONS = "catalogue", "collections"


class ResourcePastRow(SQLModel, table=True):
    """One former state of a resource, valid `until`. `agreed`: another person agreed to leave it."""

    __tablename__ = "resource_past"
    __table_args__ = (Index("resource_past_by_time", "until"),)

    resource_id: UUID = Field(sa_column=Column(ForeignKey("resource.id"), primary_key=True))
    what: str = Field(primary_key=True, sa_type=Text)
    revision: int = Field(primary_key=True)
    until: datetime = moment()
    agreed: bool
    document: dict[str, Any] = document()


def keep_catalogue(session: Session, row: ResourceRow, was: Catalogue, now: datetime, *, agreed: bool) -> None:
    """Keep the catalogue that is about to be replaced."""
    session.add(
        ResourcePastRow(
            resource_id=row.id,
            what=CATALOGUE,
            revision=row.revision,
            until=now,
            agreed=agreed,
            document=catalogue_document(was),
        )
    )


def keep_collections(session: Session, row: ResourceRow, was: CollectionTree, now: datetime, *, agreed: bool) -> None:
    """Keep the collections that are about to be replaced. Before the first there was nothing to weigh by."""
    if not was.everything:
        return
    session.add(
        ResourcePastRow(
            resource_id=row.id,
            what=COLLECTIONS,
            revision=row.collections_revision,
            until=now,
            agreed=agreed,
            document=collections_document(was),
        )
    )


def places(session: Session, rows: Iterable[ResourceRow], since: datetime) -> dict[UUID, Place]:
    """Return resources as they are, and as they were since a moment, back to what somebody else agreed to leave."""
    wanted = list(rows)
    catalogues, trees = resources.catalogues(session, wanted), resources.trees(session, wanted)
    past: dict[tuple[UUID, str], list[ResourcePastRow]] = {}
    kept = select(ResourcePastRow).where(
        among_ids(ResourcePastRow.resource_id, [row.id for row in wanted]), col(ResourcePastRow.until) > since
    )
    for one in session.exec(kept.order_by(col(ResourcePastRow.until).desc(), col(ResourcePastRow.revision).desc())):
        found = past.setdefault((one.resource_id, one.what), [])
        # What somebody else agreed to leave is a mark: what lies before it counts no more.
        if not found or not found[-1].agreed:
            found.append(one)
    return {
        row.id: Place(
            catalogues[row.id],
            trees[row.id],
            tuple(catalogue_of(row.name, one.document) for one in past.get((row.id, CATALOGUE), ()) if not one.agreed),
            tuple(read_collections(one.document) for one in past.get((row.id, COLLECTIONS), ()) if not one.agreed),
            own_collections=row.name == own_api.NAME,
        )
        for row in wanted
    }


def catalogue_document(catalogue: Catalogue) -> dict[str, Any]:
    return {
        "title": catalogue.title,
        "identifier": catalogue.identifier,
        "object_name": catalogue.object_name,
        "operations": [
            [
                operation.name,
                operation.title,
                operation.method,
                operation.path,
                operation.effect.value,
                operation.data_class.value,
            ]
            for operation in catalogue.operations.values()
        ],
        "permissions": [
            [
                permission.name,
                permission.title,
                sorted(permission.kinds),
                sorted(permission.unlocks),
                sorted(permission.implies),
                permission.consent_by.value,
                permission.text,
                permission.person_text,
            ]
            for permission in catalogue.permissions.values()
        ],
    }


def catalogue_of(name: str, kept: dict[str, Any]) -> Catalogue:
    return Catalogue.of(
        name,
        kept["title"],
        kept["identifier"],
        [
            Operation(name, title, method, path, Effect(effect), DataClass(data_class))
            for name, title, method, path, effect, data_class in kept["operations"]
        ],
        [
            Permission(
                one[0],
                one[1],
                frozenset(map(AccessKind, one[2])),
                frozenset(one[3]),
                frozenset(one[4]),
                ConsentBy(one[5]),
                one[6],
                one[7],
            )
            for one in kept["permissions"]
        ],
        kept["object_name"],
    )


def collections_document(tree: CollectionTree) -> dict[str, Any]:
    return {
        "collections": [
            [collection.path, collection.title, sorted(collection.objects), collection.rule]
            for collection in tree.collections.values()
        ]
    }


def read_collections(kept: dict[str, Any]) -> CollectionTree:
    return CollectionTree.of(
        Collection(path, title, frozenset(objects), rule) for path, title, objects, rule in kept["collections"]
    )
