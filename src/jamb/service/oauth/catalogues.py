"""Catalogues and collections on the token path: prepared once per revision, read through a thread when not."""

from __future__ import annotations

from uuid import UUID

from fastapi.concurrency import run_in_threadpool
from sqlmodel import Session

from jamb.core.permissions import Catalogue
from jamb.core.reach import CollectionTree
from jamb.service.runtime import Runtime
from jamb.store.resources import resources


async def catalogue_of(runtime: Runtime, resource_id: UUID, revision: int) -> Catalogue:
    found = resources.prepared(resource_id, revision)
    return found if found is not None else await run_in_threadpool(_prepare, runtime, resource_id)


def _prepare(runtime: Runtime, resource_id: UUID) -> Catalogue:
    with Session(runtime.backend.engine) as session:
        row = session.get_one(resources.ResourceRow, resource_id)
        return resources.catalogues(session, [row])[resource_id]


async def tree_of(runtime: Runtime, resource_id: UUID, collections_revision: int | None = None) -> CollectionTree:
    """Return the collections of a resource. `collections_revision`: None: it is not known; the newest is read."""
    known = resources.grown(resource_id, collections_revision) if collections_revision is not None else None
    return known if known is not None else await run_in_threadpool(_grow, runtime, resource_id)


def _grow(runtime: Runtime, resource_id: UUID) -> CollectionTree:
    with Session(runtime.backend.engine) as session:
        return resources.trees(session, [session.get_one(resources.ResourceRow, resource_id)])[resource_id]
